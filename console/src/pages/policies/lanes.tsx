import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useAnalysis, useHits, useObjects, useSave, useDraft } from "../../api/hooks";
import { useFirstHour } from "../watch/first-hour";
import { Button, Empty, Failure, Notice, PageHead, PassChip, sentence, Verdict, verdictKind } from "../../ui/basic";
import {} from "../../ui/condition";
import {} from "../../ui/editor";
import { Modal } from "../../ui/modal";
import { Sortable, useMovable } from "../../ui/sortable";
import { DeviceSettings, Marks, Methods, Settings } from "./methods";
import { FindingLine } from "./analysis";
import { HitCount } from "../../ui/hits";
import { PolicyDialog, type Policy } from "./policy";
import { type Lane, laneBody, LaneForm } from "./lane-form";

export function LanesPage() {
  const { id } = useParams();
  const list = useObjects("lanes");
  const hour = useFirstHour();
  const queries = useQueryClient();
  const lanes = list.data?.items ?? [];
  const order = useMutation({
    mutationFn: (next: Lane[]) => call("PUT", "/lane-order", { lanes: next.map((l) => l.id) }),
    onMutate: (next) => queries.setQueryData(["lanes", ""], { items: next.map((l, i) => ({ ...l, number: i + 1 })) }),
    onSettled: () => queries.invalidateQueries(),
  });
  const lane = lanes.find((l) => l.id === id || l.name === id) ?? (id ? undefined : lanes[0]);
  return (
    <div className="-mx-3 -mt-3 -mb-4 grid md:-mx-5 lg:min-h-[calc(100%-18px)] lg:grid-cols-[258px_minmax(0,1fr)]">
      <aside aria-label="Lanes" className="border-hair max-lg:border-b lg:border-r">
        <div className="flex items-center justify-between px-5 pt-4 pb-2">
          <h2>Lanes (first match)</h2>
          <Link
            to="/lanes/new"
            aria-label="Add lane"
            className="rounded border border-hair bg-sheet px-2 font-semibold"
          >
            +
          </Link>
        </div>
        <div className="px-5">
          <Failure error={list.error ?? order.error} />
        </div>
        <Sortable items={lanes} onMove={(next) => order.mutate(next)}>
          {lanes.map((l) => (
            <LaneRow key={l.id} lane={l} on={l.id === lane?.id} />
          ))}
        </Sortable>
      </aside>
      <section className="min-w-0 px-3 py-4 md:px-6">
        {id === "new" ? (
          !hour.isLoading && <LaneForm key="new" fresh={hour.data?.methods ?? []} />
        ) : lane ? (
          <LaneView key={lane.id} lane={lane} />
        ) : (
          list.data && (
            <Empty title="No lane yet">
              A lane is chosen first, by facts of the request: wired ports, an SSID, VPN, device logins.{" "}
              <Link className="underline" to="/lanes/new">
                Add the first
              </Link>
            </Empty>
          )
        )}
      </section>
    </div>
  );
}

function LaneRow({ lane, on }: { lane: Lane; on: boolean }) {
  const { ref, style, handle } = useMovable(lane.id, `lane ${lane.name}`);
  return (
    <div
      ref={ref}
      style={style}
      className={`flex border-b border-hair ${on ? "bg-sheet shadow-[inset_3px_0_0_var(--brass)]" : ""}`}
    >
      <span className="pt-2 pl-1.5">{handle}</span>
      <Link to={`/lanes/${lane.id}`} className="block grow py-2 pr-4 pl-1">
        <div className="font-semibold">
          {lane.number}. {lane.name}
          <Marks list={lane.problems} />
        </div>
        <div className="mono break-words text-soft">{lane.when}</div>
      </Link>
    </div>
  );
}

function LaneView({ lane }: { lane: Lane }) {
  const save = useSave("lanes");
  const [editing, setEditing] = useState(false);
  const [open, setOpen] = useState<Policy | null>(null);
  const put = (policies: Policy[], done?: () => void) =>
    save.mutate({ id: lane.id, tag: lane.tag, body: laneBody({ ...lane, policies }) }, { onSuccess: done });
  const found = useAnalysis().data?.items.filter((f) => f.id === lane.id && f.kind === "lane") ?? [];
  const plain = lane.problems.filter((p) => !p.code.startsWith("finding."));
  const counted = useHits().data;
  const hits = counted?.items ?? [];
  const change = useDraft().data?.changes.find((c) => c.kind === "lane" && c.id === lane.id);
  const drafted = new Set(
    change?.what === "added" ? lane.policies.map((p) => p.id) : (change?.parts ?? []).map((p) => p.id),
  );
  const blank: Policy = {
    id: "",
    name: "",
    enabled: true,
    when: "",
    outcome: "admit",
    pass: "",
    groups: [],
    message: "",
  };
  return (
    <>
      <PageHead
        title={lane.name}
        lead={
          lane.forward.length ? (
            <>
              forwarded to <b>{lane.forward.join(", ")}</b>
            </>
          ) : (
            <>
              {lane.realm ? (
                <>
                  realm <b>{lane.realm}</b>
                </>
              ) : (
                "realm by the form of the name"
              )}{" "}
              · <Methods names={lane.methods} />
            </>
          )
        }
      >
        {lane.methods.some((m) => /^(eap-tls|peap|ttls|teap)/.test(m)) && <DeviceSettings lane={lane} />}
        <Button onClick={() => setEditing(true)}>Edit lane</Button>
        {lane.forward.length === 0 && (
          <Button
            primary
            onClick={() => {
              save.reset();
              setOpen(blank);
            }}
          >
            Add policy
          </Button>
        )}
      </PageHead>
      <div className="mono border border-hair bg-sheet px-2.5 py-1.5">{lane.when}</div>
      {lane.forward.length === 0 && <Settings lane={lane} />}
      {!open && (
        <div className="mt-2">
          <Failure error={save.error} />
        </div>
      )}
      {found
        .filter((f) => !f.policy)
        .map((f, i) => (
          <FindingLine key={i} finding={f} />
        ))}
      {plain
        .filter((p) => !p.field.startsWith("policies[") && p.code !== "method.weak")
        .map((p, i) => (
          <div key={i} className="mt-2">
            <Notice tone={p.warning ? "warn" : "out"}>
              <b>{sentence(p.message)}</b> {p.remedy}
            </Notice>
          </div>
        ))}
      {counted?.missing && (
        <div className="mt-2">
          <Notice tone="warn">Hits at {counted.missing.join(" and ")} are missing: it does not answer.</Notice>
        </div>
      )}
      {lane.forward.length > 0 && (
        <p className="mt-3">
          Requests go to <b>{lane.forward.join(", then to ")}</b>, and the first that answers decides. What it grants is
          passed on.
        </p>
      )}
      {(lane.forward.length === 0 || lane.policies.length > 0) && (
        <div className="mt-3 grid grid-cols-[52px_minmax(0,1fr)_104px_220px] border-b border-hair pb-1 text-[12px] font-medium text-soft max-md:hidden">
          <span />
          <span>Policy (first match)</span>
          <span>Last 48 hours</span>
          <span>Outcome</span>
        </div>
      )}
      <Sortable items={lane.policies} onMove={(next) => put(next)}>
        {lane.policies.map((p, i) => (
          <PolicyRow
            key={p.id}
            policy={p}
            ran={!drafted.has(p.id)}
            number={i + 1}
            problems={plain.filter((x) => x.field.startsWith(`policies[${i}]`))}
            found={found.filter((f) => f.field.startsWith(`policies[${i}]`))}
            hits={hits.filter((h) => h.policy === p.id)}
            open={() => {
              save.reset();
              setOpen(p);
            }}
          />
        ))}
      </Sortable>
      {lane.forward.length === 0 && (
        <div className="mt-3 text-soft">
          If no policy matches: refuse with <code>policy.none</code>
        </div>
      )}
      {open && (
        <PolicyDialog
          policy={open}
          lane={lane}
          error={save.error}
          busy={save.isPending}
          at={lane.policies.findIndex((p) => p.id === open.id)}
          close={() => setOpen(null)}
          save={(next) =>
            put(open.id ? lane.policies.map((p) => (p.id === open.id ? next : p)) : [...lane.policies, next], () =>
              setOpen(null),
            )
          }
          remove={
            open.id
              ? () =>
                  put(
                    lane.policies.filter((p) => p.id !== open.id),
                    () => setOpen(null),
                  )
              : undefined
          }
        />
      )}
      <Modal wide open={editing} onClose={() => setEditing(false)} title={`Lane ${lane.name}`}>
        {editing && <LaneForm lane={lane} close={() => setEditing(false)} />}
      </Modal>
    </>
  );
}

/** A pass with its VLAN. */
function Given({ name }: { name: string }) {
  const pass = useObjects("passes").data?.items.find((p) => p.name.toLowerCase() === name.toLowerCase());
  return (
    <span className="whitespace-nowrap">
      <PassChip name={name} to={pass && `/passes/${pass.id}`} />
      {pass?.vlan && <span className="mono text-soft"> VLAN {pass.vlan}</span>}
    </span>
  );
}

/** Whether the time of a policy is over. */
const ended = (p: Policy) => !!p.until && !p.until.startsWith("0001") && new Date(p.until).getTime() <= Date.now();

function PolicyRow({
  policy: p,
  ran,
  number,
  problems,
  found,
  hits,
  open,
}: {
  policy: Policy;
  /** It is in what is running. */ ran: boolean;
  number: number;
  problems: Schema["ConfigProblem"][];
  found: Schema["ResultsFinding"][];
  hits: Schema["Hits"][];
  open: () => void;
}) {
  const { ref, style, handle } = useMovable(p.id, `policy ${p.name}`);
  return (
    <div
      ref={ref}
      style={style}
      className={`grid grid-cols-[52px_minmax(0,1fr)] *:max-md:col-start-2 *:max-md:first:col-start-1 md:grid-cols-[52px_minmax(0,1fr)_104px_220px] border-b border-hair bg-paper py-1.5 ${p.enabled ? "" : "opacity-60"}`}
    >
      <span className="text-soft">
        {handle} {number}
      </span>
      <div className="pr-4">
        <button type="button" onClick={open} className="font-semibold hover:underline">
          {p.name}
        </button>
        {!p.enabled && <span className="text-soft"> · switched off</span>}
        {ended(p) && <span className="text-out"> · ended</span>}
        {!ran && <span className="text-brass-ink"> · in the draft</span>}
        <Terms policy={p} />
        {!(p.groups.length > 0 && p.when === "always") && <div className="mono break-words">{p.when}</div>}
        {p.groups.length > 0 && (
          <>
            <div className="mono text-soft">
              group table, {p.groups.length} {p.groups.length === 1 ? "row" : "rows"}
            </div>
            <div className="mt-1 grid gap-y-1 md:grid-cols-[minmax(0,1fr)_172px_96px]">
              {p.groups.map((g) => (
                <div key={g.group} className="contents">
                  <span className="mono">{g.group}</span>
                  <span>
                    <Given name={g.pass} />
                  </span>
                  <HitCount hits={hits.filter((h) => h.group.toLowerCase() === g.group.toLowerCase())} />
                </div>
              ))}
            </div>
          </>
        )}
        {found.map((f, i) => (
          <FindingLine key={i} finding={f} />
        ))}
        {problems.map((x, i) => (
          <div key={i} className="mt-1">
            <Notice tone={x.warning ? "warn" : "out"}>
              {sentence(x.message)} <b>{x.remedy}</b>
            </Notice>
          </div>
        ))}
      </div>
      <HitCount hits={hits} />
      <div className="flex items-start gap-3">
        <Verdict kind={verdictKind(p.outcome)}>{p.outcome}</Verdict>
        {p.pass && <Given name={p.pass} />}
      </div>
    </div>
  );
}

/** When a policy counts, and person responsible for it. */
function Terms({ policy: p }: { policy: Policy }) {
  const day = (at?: string) =>
    at && !at.startsWith("0001")
      ? new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" })
      : "";
  const said = [
    day(p.from) && `from ${day(p.from)}`,
    day(p.until) && `until ${day(p.until)}`,
    p.owner && `owner ${p.owner}`,
  ]
    .filter(Boolean)
    .join(", ");
  return said ? <span className="text-soft"> · {said}</span> : null;
}
