import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { call, Refused, stream, type Schema } from "../api/client";
import { useDraft } from "../api/hooks";
import { ago, Button, Empty, Failure, millis, Notice, PageHead, PassChip, Verdict } from "../ui/basic";
import { Pick } from "../ui/form";

type Ending = Schema["DecideEnding"];
type Progress = Schema["RehearsalProgress"];

export const useRehearsal = () =>
  useQuery({
    queryKey: ["rehearsal"],
    queryFn: () => call<Schema["Rehearsal"]>("GET", "/rehearsal").catch((e) => {
      if (e instanceof Refused && e.status === 404) return null;
      throw e;
    }),
  });

/** Decides recorded attempts again under the draft, and lists who would notice. */
export function RehearsalPage() {
  const queries = useQueryClient();
  const draft = useDraft();
  const last = useRehearsal();
  const [hours, setHours] = useState("24");
  const [progress, setProgress] = useState<Progress | null>(null);
  const [error, setError] = useState<unknown>(null);
  const stop = useRef<AbortController>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const run = async () => {
    stop.current?.abort();
    const mine = (stop.current = new AbortController());
    setError(null);
    setProgress({ done: 0, total: 0, changed: 0 });
    try {
      await stream("/rehearsal", { hours: Number(hours) }, mine.signal, (name, data) => {
        if (name === "progress") return setProgress(data as Progress);
        const end = data as Schema["RehearsalEnd"];
        if (end.problem) setError(end.problem);
      });
    } catch (e) {
      if (!mine.signal.aborted) setError(e);
    }
    setProgress(null);
    await queries.invalidateQueries({ queryKey: ["rehearsal"] });
  };
  const r = last.data;
  return (
    <>
      <PageHead title="Rehearsal" lead={draft.data && (draft.data.changes.length === 0 ? "the draft is as what is running" : `${draft.data.changes.length} ${draft.data.changes.length === 1 ? "change" : "changes"} against revision ${draft.data.revision}`)} />
      <p className="mb-3 max-w-[820px] text-soft">Attempts that were recorded are decided again, under what is running and under the draft, by the same code that answers devices. People are taken as they were found then. Nothing takes effect.</p>
      <div className="mb-4 flex items-end gap-3">
        <div className="w-56"><Pick label="Attempts of" value={hours} onChange={setHours} options={[["1", "the last hour"], ["24", "the last day"], ["168", "the last week"], ["720", "the last 30 days"]].map(([value, label]) => ({ value, label }))} /></div>
        <div className="mb-3 flex items-center gap-3">
          {progress ? <Button onClick={() => stop.current?.abort()}>Stop</Button> : <Button primary onClick={run}>Rehearse</Button>}
          {progress && <><progress className="w-48" aria-label="Progress" max={progress.total || 1} value={progress.done} /><span role="status" className="text-soft">{progress.done.toLocaleString()} of {progress.total.toLocaleString()}, {progress.changed.toLocaleString()} would end otherwise</span></>}
        </div>
      </div>
      <Failure error={error ?? last.error} />
      {r === null && !progress && <Empty title="Not rehearsed yet">Change something, then see for whom it would make a difference.</Empty>}
      {r && !progress && (
        <>
          {r.outdated && <div className="mb-3"><Notice tone="warn"><b>The draft has changed since.</b> Rehearse again to see what it would do now.</Notice></div>}
          <p className="mb-3">{r.changed === 0 ? <Verdict kind="in">Nobody would notice</Verdict> : <b>{r.changed.toLocaleString()} attempts would end otherwise</b>} <span className="text-soft">out of {r.total.toLocaleString()}, rehearsed {ago(r.ended)} in {millis(r.micros)}{r.unreadable > 0 && `; ${r.unreadable} could not be read`}</span></p>
          {r.differences.length > 0 && (
            <table className="grid-table">
              <thead><tr><th>Attempts</th><th>People</th><th>Now</th><th>Under the draft</th><th>Such as</th></tr></thead>
              <tbody>
                {r.differences.map((d, i) => (
                  <tr key={i}>
                    <td className="font-semibold">{d.attempts.toLocaleString()}</td><td>{d.people.toLocaleString()}</td>
                    <td><End ending={d.before} other={d.after} /></td><td><End ending={d.after} other={d.before} /></td>
                    <td>{d.examples.map((e) => <div key={e.id}><Link className="hover:underline" to={`/attempts/${e.id}?under=draft`}>{e.person}</Link></div>)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </>
      )}
    </>
  );
}

/** How an attempt ends: the verdict, what gave it, and what is granted. */
function End({ ending: e, other }: { ending: Ending; other: Ending }) {
  return (
    <>
      <div className="flex flex-wrap items-center gap-2">
        {e.verdict === "admitted" ? <><Verdict kind="in">admitted</Verdict><PassChip name={e.pass} />{e.vlan && <span className="mono">VLAN {e.vlan}</span>}</> : <><Verdict kind="out">refused</Verdict><code>{e.reason}</code></>}
      </div>
      <div className="text-[12px] text-soft">{e.lane || "no lane"}{e.policy && `, ${e.policy}`}{e.pass && e.pass === other.pass && e.vlan === other.vlan && <span className="mono block break-words">{e.reply}</span>}</div>
    </>
  );
}
