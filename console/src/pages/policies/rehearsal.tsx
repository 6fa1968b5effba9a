import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { call, stream, type Schema } from "../../api/client";
import { useDraft } from "../../api/hooks";
import {
  ago,
  Button,
  Empty,
  Failure,
  millis,
  Notice,
  PageHead,
  PassChip,
  sentence,
  Verdict,
  verdictKind,
} from "../../ui/basic";
import { Road } from "../../ui/road";
import { Pick } from "../../ui/pick";
import { useRehearsal } from "../../api/hooks";

type Ending = Schema["ResultsEnding"];
type Progress = Schema["ResultsProgress"];

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
  const [shown, setShown] = useState<string | null>(null);
  const file = useRef<HTMLInputElement>(null);
  const importSample = async (text: string) => {
    try {
      await run(
        text
          .split("\n")
          .filter((l) => l.trim())
          .map((l) => JSON.parse(l)),
      );
    } catch {
      setError("The sample does not hold one JSON object per line; `tollgate attempt sample` shows the format.");
    }
  };
  const run = async (sample?: unknown[]) => {
    stop.current?.abort();
    const mine = (stop.current = new AbortController());
    setError(null);
    setProgress({ done: 0, total: 0, changed: 0 });
    try {
      await stream("/rehearsal", { hours: Number(hours), ...(sample ? { sample } : {}) }, mine.signal, (name, data) => {
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
      <PageHead
        title="Rehearsal"
        lead={
          draft.data &&
          (draft.data.changes.length === 0
            ? "the draft is as what is running"
            : `${draft.data.changes.length} ${draft.data.changes.length === 1 ? "change" : "changes"} against revision ${draft.data.revision}`)
        }
      />
      <p className="mb-3 max-w-[820px] text-soft">
        Recorded attempts are decided again, with what is running and with the draft, by the same code that answers
        devices. People are taken as they were found then. Nothing takes effect.
      </p>
      <div className="mb-4 flex items-end gap-3">
        <div className="w-56">
          <Pick
            label="Attempts of"
            value={hours}
            onChange={setHours}
            options={[
              ["1", "the last hour"],
              ["24", "the last day"],
              ["168", "the last week"],
              ["720", "the last 30 days"],
            ].map(([value, label]) => ({ value, label }))}
          />
        </div>
        <div className="mb-3 flex items-center gap-3">
          {progress ? (
            <Button onClick={() => stop.current?.abort()}>Stop</Button>
          ) : (
            <>
              <Button primary onClick={() => run()}>
                Rehearse
              </Button>
              <input
                ref={file}
                type="file"
                accept=".jsonl,.ndjson,.json"
                aria-label="Sample file"
                className="hidden"
                onChange={async (e) => {
                  const t = await e.target.files?.[0]?.text();
                  e.target.value = "";
                  if (t) importSample(t);
                }}
              />
              <Button onClick={() => file.current?.click()}>With a sample ...</Button>
            </>
          )}
          {progress && (
            <>
              <progress className="w-48" aria-label="Progress" max={progress.total || 1} value={progress.done} />
              <span role="status" className="text-soft">
                {progress.done.toLocaleString()} of {progress.total.toLocaleString()},{" "}
                {progress.changed.toLocaleString()} would have a different result
              </span>
            </>
          )}
        </div>
      </div>
      <Failure error={error ?? last.error} />
      {r === null && !progress && (
        <Empty title="Not rehearsed yet">Change something, then see who would be affected.</Empty>
      )}
      {r && !progress && (
        <>
          {r.outdated && (
            <div className="mb-3">
              <Notice tone="warn">
                <b>The draft has changed since.</b> Rehearse again to see its effect now.
              </Notice>
            </div>
          )}
          <p className="mb-3">
            {r.changed === 0 ? (
              <Verdict kind="in">No attempt would change</Verdict>
            ) : (
              <b>{r.changed.toLocaleString()} attempts would have a different result</b>
            )}{" "}
            <span className="text-soft">
              out of {r.total.toLocaleString()}
              {r.sample && " of a sample"}, rehearsed {ago(r.ended)} in {millis(r.micros)}
              {r.unreadable > 0 && `; ${r.unreadable} could not be read`}
            </span>
          </p>
          {r.differences.length > 0 && (
            <table className="grid-table">
              <thead>
                <tr>
                  <th>Attempts</th>
                  <th>People</th>
                  <th>Now</th>
                  <th>Under the draft</th>
                  <th>Such as</th>
                </tr>
              </thead>
              <tbody>
                {r.differences.map((d, i) => (
                  <Fragment key={i}>
                    <tr>
                      <td className="align-top font-semibold">{d.attempts.toLocaleString()}</td>
                      <td>{d.people.toLocaleString()}</td>
                      <td>
                        <End ending={d.before} other={d.after} />
                      </td>
                      <td>
                        <End ending={d.after} other={d.before} />
                      </td>
                      <td>
                        {d.examples.map((e) => (
                          <div key={e.id}>
                            {r.sample ? (
                              e.person
                            ) : (
                              <button
                                type="button"
                                aria-expanded={shown === e.id}
                                className="hover:underline"
                                onClick={() => setShown(shown === e.id ? null : e.id)}
                              >
                                {e.person}
                              </button>
                            )}
                          </div>
                        ))}
                      </td>
                    </tr>
                    {d.examples.some((e) => e.id === shown) && (
                      <tr>
                        <td colSpan={5}>
                          <Beside id={shown!} close={() => setShown(null)} />
                        </td>
                      </tr>
                    )}
                  </Fragment>
                ))}
              </tbody>
            </table>
          )}
        </>
      )}
    </>
  );
}

/** The road of one attempt as it is now and under the draft, one above the other, station under station. */
function Beside({ id, close }: { id: string; close: () => void }) {
  const road = (under: string) =>
    useQuery({
      queryKey: ["attempt", id, under],
      queryFn: () => call<Schema["AttemptDetail"]>("GET", `/attempts/${id}?under=${under}`),
    });
  const [now, then] = [road("running"), road("draft")];
  if (!now.data || !then.data) return <Failure error={now.error ?? then.error} />;
  return (
    <section aria-label="Before and after" className="border-l-[3px] border-brass pl-3">
      <div className="mb-1 flex items-baseline gap-3">
        <h2>
          {now.data.person || now.data.sent} on {now.data.where || now.data.client}
        </h2>
        <Link className="text-[13px] underline" to={`/attempts/${id}?under=draft`}>
          The whole attempt
        </Link>
        <Button className="ml-auto" onClick={close}>
          Close
        </Button>
      </div>
      {(
        [
          ["Now", now.data],
          ["Under the draft", then.data],
        ] as const
      ).map(([name, a]) => (
        <div key={name} className="mb-2 grid grid-cols-[110px_1fr] items-start gap-2">
          <div>
            <b>{name}</b>
            <div>
              <Verdict kind={verdictKind(a.trace.verdict)}>{a.trace.verdict}</Verdict>
            </div>
          </div>
          <div>
            <Road trace={a.trace} />
            <p className="text-[13px]">{sentence(a.trace.sentence)}</p>
          </div>
        </div>
      ))}
    </section>
  );
}

/** How an attempt ends: the verdict, what gave it, and what is granted. */
function End({ ending: e, other }: { ending: Ending; other: Ending }) {
  return (
    <>
      <div className="flex flex-wrap items-center gap-2">
        {e.verdict === "admitted" ? (
          <>
            <Verdict kind="in">admitted</Verdict>
            {e.pass ? <PassChip name={e.pass} /> : "remotely"}
            {e.vlan && <span className="mono">VLAN {e.vlan}</span>}
          </>
        ) : (
          <>
            <Verdict kind="out">refused</Verdict>
            <code>{e.reason}</code>
          </>
        )}
      </div>
      <div className="text-[12px] text-soft">
        {e.lane || "no lane"}
        {e.policy && `, ${e.policy}`}
        {e.pass && e.pass === other.pass && e.vlan === other.vlan && (
          <span className="mono block break-words">{e.reply}</span>
        )}
      </div>
    </>
  );
}
