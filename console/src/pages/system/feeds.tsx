import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { Button, ButtonLink, Empty, Failure, PageHead, rowKeys, Trail, Verdict, When } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { NumberField, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { PeerFields } from "../../ui/peer";

type Feed = Schema["Feed"];

const ways: Record<string, string> = {
  "syslog-tls": "syslog over TLS",
  "syslog-tcp": "syslog over TCP",
  "syslog-udp": "syslog over UDP",
  file: "file of JSON lines",
};

const selects = (f: Feed) =>
  [f.verdict, f.client && `client ${f.client}`, f.who && `who ${f.who}`, f.lane && `lane ${f.lane}`]
    .filter(Boolean)
    .join(", ") || "all";

export function FeedsPage() {
  const list = useObjects("feeds", "", 3_000);
  const go = useNavigate();
  return (
    <>
      <PageHead title="Sending on" lead="records sent to other systems as they are made">
        <ButtonLink primary to="/feeds/new">
          Add feed
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="Nothing is sent on">
          Attempts, accounting, the gear journal and the audit can be sent to a receiver of syslog, or written into
          files. What is recorded while the receiver is down is sent later.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Records</th>
              <th>To</th>
              <th>Selects</th>
              <th>State</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((f) => (
              <tr key={f.id} {...rowKeys(() => go(`/feeds/${f.id}`))}>
                <td className="font-semibold">{f.name}</td>
                <td>{f.records.join(", ")}</td>
                <td>
                  {ways[f.to]} <span className="mono">{f.to === "file" ? `${f.file}.jsonl` : f.address}</span>
                </td>
                <td>{selects(f)}</td>
                <td>
                  <Standing feed={f} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

/** How far a feed has come, in a few words. */
function Standing({ feed: f }: { feed: Feed }) {
  if (!f.enabled) return <span className="text-soft">off</span>;
  if (f.states.length === 0) return <span className="text-soft">not published</span>;
  if (f.states.some((s) => s.fault)) return <Verdict kind="out">stuck</Verdict>;
  const sent = f.states.reduce((n, s) => n + s.sent, 0);
  return (
    <>
      {sent.toLocaleString()} sent{f.states.some((s) => s.behind) && <span className="text-soft">, catching up</span>}
    </>
  );
}

export function FeedPage() {
  const { id = "" } = useParams();
  const one = useObject("feeds", id, 3_000);
  if (id === "new") return <FeedForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Feed" />
        <Failure error={one.error} />
      </>
    );
  return <FeedForm key={one.data.id} feed={one.data} />;
}

/** How far each kind of record has been sent. */
export function Sent({ states }: { states: Schema["FeedState"][] }) {
  if (states.length === 0) return null;
  return (
    <table className="grid-table mb-5">
      <thead>
        <tr>
          <th>Records</th>
          <th>Sent</th>
          <th>Not selected</th>
          <th>Up to</th>
          <th>State</th>
        </tr>
      </thead>
      <tbody>
        {states.map((s) => (
          <tr key={s.records}>
            <td>{s.records}</td>
            <td>{s.sent.toLocaleString()}</td>
            <td>{s.passed.toLocaleString()}</td>
            <td>{s.at && !s.at.startsWith("1970") && <When at={s.at} />}</td>
            <td>
              {s.fault ? (
                <>
                  <Verdict kind="out">stuck</Verdict> <span className="text-soft">{s.fault}</span>
                </>
              ) : s.behind ? (
                "catching up"
              ) : (
                "up to date"
              )}
              {s.givenUp > 0 && <span className="text-soft">; {s.givenUp} given up</span>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const kinds = [
  ["attempts", "Attempts: who was admitted or refused"],
  ["accounting", "Accounting: sessions that begin, go on and end"],
  ["journal", "Gear journal: sign-ins and commands on network gear"],
  ["audit", "Audit: what operators did"],
] as const;

function FeedForm({ feed: f }: { feed?: Feed }) {
  const [form, setForm] = useState({
    name: f?.name ?? "",
    enabled: f?.enabled ?? true,
    records: f?.records ?? ["attempts"],
    to: f?.to ?? "syslog-tls",
    address: f?.address ?? "",
    ca: f?.ca ?? "",
    serverName: f?.serverName ?? "",
    certificate: f?.certificate ?? "",
    facility: f?.facility ?? 10,
    file: f?.file ?? "",
    megabytes: f?.megabytes ?? 100,
    keep: f?.keep ?? 10,
    verdict: f?.verdict ?? "",
    client: f?.client ?? "",
    who: f?.who ?? "",
    lane: f?.lane ?? "",
    note: f?.note ?? "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const text = (field: "address" | "file" | "client" | "who" | "lane", label: string, hint = "", error?: unknown) => (
    <TextField
      label={label}
      field={field}
      hint={hint}
      mono
      value={form[field]}
      onChange={(v) => set({ [field]: v })}
      error={error}
    />
  );
  const number = (field: "facility" | "megabytes" | "keep", label: string, hint = "", error?: unknown) => (
    <NumberField
      label={label}
      field={field}
      hint={hint}
      value={form[field]}
      onChange={(v) => set({ [field]: v })}
      error={error}
    />
  );
  return (
    <div className="max-w-[760px]">
      <Trail to="/feeds" of="Sending on">
        {f?.name ?? "new"}
      </Trail>
      <PageHead title={f?.name ?? "Add feed"} />
      {f && <Problems list={f.problems} />}
      {f && <Sent states={f.states} />}
      {f && <Test id={f.id} />}
      <Editor kind="feeds" noun="feed" object={f} body={() => ({ ...form })}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <Tick label="Send" checked={form.enabled} onChange={(enabled) => set({ enabled })} />
            <fieldset className="mb-4">
              <legend className="mb-1 text-[12.5px] font-semibold">What is sent</legend>
              {kinds.map(([kind, label]) => (
                <Tick
                  key={kind}
                  label={label}
                  checked={form.records.includes(kind)}
                  onChange={(on) =>
                    set({ records: on ? [...form.records, kind] : form.records.filter((r) => r !== kind) })
                  }
                />
              ))}
            </fieldset>
            <Pick
              label="To"
              field="to"
              value={form.to}
              onChange={(v) => set({ to: v as typeof form.to })}
              error={error}
              options={Object.entries(ways).map(([value, label]) => ({ value, label }))}
            />
            {form.to === "file" ? (
              <>
                {text("file", "File", "Name in the directory feeds of the data directory, without .jsonl.", error)}
                <div className="grid grid-cols-2 gap-3">
                  {number("megabytes", "Another one is begun after (MB)", "", error)}
                  {number("keep", "Files that are kept", "", error)}
                </div>
              </>
            ) : (
              <>
                {text("address", "Receiver", "host:port; the port is 514, or 6514 over TLS, if none is given.", error)}
                {number("facility", "Facility", "10 is security; 16 to 23 are for local use.", error)}
              </>
            )}
            {form.to === "syslog-tls" && <PeerFields value={form} set={set} error={error} none="none" />}
            <fieldset className="mb-2">
              <legend className="mb-1 text-[12.5px] font-semibold">Only some of them</legend>
              <div className="grid grid-cols-2 gap-x-3">
                <Pick
                  label="Verdict"
                  value={form.verdict}
                  onChange={(v) => set({ verdict: v as typeof form.verdict })}
                  options={[
                    { value: "", label: "any" },
                    { value: "refused", label: "refused" },
                    { value: "admitted", label: "admitted" },
                  ]}
                />
                {text("client", "Client", "* stands for any characters.", error)}
                {text("who", "Person", "", error)}
                {text("lane", "Lane", "", error)}
              </div>
            </fieldset>
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
    </div>
  );
}

/** Sends one event by way of the feed as it is saved, published or not. */
function Test({ id }: { id: string }) {
  const test = useMutation({ mutationFn: () => call("POST", `/feeds/${encodeURIComponent(id)}/test`) });
  return (
    <div className="mb-5">
      <Button onClick={() => test.mutate()} disabled={test.isPending}>
        Send a test event
      </Button>{" "}
      {test.isSuccess && <Verdict kind="in">it was sent</Verdict>}
      <Failure error={test.error} />
    </div>
  );
}
