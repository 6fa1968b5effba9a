import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, Refused, unmet, type Schema } from "../../api/client";
import { useDraft } from "../../api/hooks";
import { Changes } from "../../ui/changes";
import { Button, Empty, Failure, Notice, PageHead, Verdict, When } from "../../ui/basic";
import { TextField, Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { BackupButton, FileButtons } from "./file";

export function HistoryPage() {
  const list = useInfiniteQuery({
    queryKey: ["revisions"],
    initialPageParam: "",
    getNextPageParam: (p: Schema["PageRevision"]) => p.next || undefined,
    queryFn: ({ pageParam }) =>
      call<Schema["PageRevision"]>("GET", `/revisions?limit=30${pageParam ? `&before=${pageParam}` : ""}`),
  });
  const asked = useDraft().data?.asked;
  const [back, setBack] = useState<number | null>(null);
  const [open, setOpen] = useState<number | null>(null);
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <>
      <PageHead title="History" lead="every published revision">
        <BackupButton />
        <FileButtons />
      </PageHead>
      {asked?.revision && (
        <div className="mb-3">
          <Notice tone="warn">
            {asked.own ? "You ask" : `${asked.operator} asks`} to return to revision {asked.revision}
            {asked.note && `: ${asked.note}`}
            {asked.stale && ". Something was published since; it has to be asked again"}.
          </Notice>
        </div>
      )}
      {rows.length > 1 && <Between numbers={rows.map((r) => r.number)} />}
      <Failure error={list.error} />
      {list.data && rows.length === 0 && (
        <Empty title="Nothing published yet">Publish the draft to make revision 1.</Empty>
      )}
      {rows.map((r) => (
        <div key={r.number} className="border-b border-hair py-2">
          <div className="flex flex-wrap items-baseline gap-x-4">
            <button
              type="button"
              aria-expanded={open === r.number}
              onClick={() => setOpen(open === r.number ? null : r.number)}
              className="w-28 text-left font-bold"
            >
              <span className="text-soft">{open === r.number ? "▾" : "▸"}</span> Revision {r.number}
            </button>
            <span className="w-36">
              <When at={r.at} long />
            </span>
            <span className="w-28">{r.operator}</span>
            <span className="grow">{r.note || <span className="text-soft">no note</span>}</span>
            <span className="text-soft">
              {(r.changes.length + r.more).toLocaleString()} {r.changes.length + r.more === 1 ? "change" : "changes"}
            </span>
            <span className="w-32 text-right">
              {r.running ? (
                <Verdict kind="in">running</Verdict>
              ) : (
                <Button needs="configure" onClick={() => setBack(r.number)}>
                  {asked?.revision === r.number && !asked.own && !asked.stale ? "Agree to return" : "Return to it"}
                </Button>
              )}
            </span>
          </div>
          {open === r.number && (
            <div className="mt-2 ml-28">
              <Changes list={r.changes} more={r.more} />
            </div>
          )}
        </div>
      ))}
      {list.hasNextPage && (
        <Button className="mt-3" onClick={() => list.fetchNextPage()}>
          Older
        </Button>
      )}
      {back !== null && <Return number={back} close={() => setBack(null)} />}
    </>
  );
}

/** What changed from one revision to another. */
function Between({ numbers }: { numbers: number[] }) {
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const diff = useQuery({
    queryKey: ["diff", from, to],
    enabled: from !== "" && to !== "",
    queryFn: () => call<Schema["Draft"]>("GET", `/revisions/${to}/diff?from=${from}`),
  });
  const choose = (label: string, value: string, set: (v: string) => void) => (
    <label className="text-[13px]">
      {label}{" "}
      <select
        aria-label={`Revision ${label}`}
        className="field inline-block w-28 py-0.5"
        value={value}
        onChange={(e) => set(e.target.value)}
      >
        <option value="">revision</option>
        {numbers.map((n) => (
          <option key={n}>{n}</option>
        ))}
      </select>
    </label>
  );
  return (
    <div className="mb-3 rounded border border-hair bg-sheet px-3 py-2">
      <div className="flex flex-wrap items-center gap-3">
        <span className="text-soft">What changed</span>
        {choose("from", from, setFrom)}
        {choose("to", to, setTo)}
      </div>
      <Failure error={diff.error} />
      {diff.data && from && to && (
        <div className="mt-2">
          <Changes list={diff.data.changes} more={diff.data.more} />
        </div>
      )}
    </div>
  );
}

function Return({ number, close }: { number: number; close: () => void }) {
  const queries = useQueryClient();
  const [note, setNote] = useState("");
  const [despite, setDespite] = useState(false);
  const diff = useQuery({
    queryKey: ["diff", number],
    queryFn: () => call<Schema["Draft"]>("GET", `/revisions/${number}/diff`),
  });
  const take = useMutation({
    mutationFn: () => call("POST", `/revisions/${number}/return`, { note, despite }),
    onSuccess: () => {
      queries.invalidateQueries();
      close();
    },
  });
  const ask = useMutation({
    mutationFn: () => api.POST("/draft/ask", { body: { note, revision: number } }),
    onSuccess: () => {
      queries.invalidateQueries();
      close();
    },
  });
  const second = take.error instanceof Refused && take.error.code === "second.needed";
  return (
    <Modal wide open onClose={close} title={`Return to revision ${number}`}>
      <Failure error={ask.error ?? take.error ?? diff.error} />
      {second && (
        <Button className="mt-2" disabled={ask.isPending} onClick={() => ask.mutate()}>
          Ask another operator
        </Button>
      )}
      <p className="mb-2">Its configuration is published again as a new revision. Compared with what is running:</p>
      {diff.data && <Changes list={diff.data.changes} more={diff.data.more} />}
      <form
        className="mt-4"
        onSubmit={(e) => {
          e.preventDefault();
          take.mutate();
        }}
      >
        <TextField label="Note" value={note} onChange={setNote} placeholder={`back to revision ${number}`} />
        {unmet(take.error) && <Tick label="Publish despite the expectations" checked={despite} onChange={setDespite} />}
        <div className="flex flex-wrap gap-2">
          <Button primary type="submit" disabled={take.isPending}>
            Return to this revision
          </Button>
          <Button onClick={close}>Cancel</Button>
        </div>
      </form>
    </Modal>
  );
}
