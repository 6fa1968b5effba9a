import { useEffect, useRef, useState, type ReactNode } from "react";
import { stream, type Schema } from "../api/client";
import { Bar, millis, sentence } from "./basic";

export type Step = Schema["ResultsStep"];

const glyph = { running: "wait", pass: "in", warn: "wait", fail: "out" } as const;
const tone = { running: "text-soft", pass: "text-in", warn: "text-brass-ink", fail: "text-out" };
const word = { running: "running", pass: "pass", warn: "warn", fail: "fail" };

/** A state with its bar and its word, or a count of that state. */
export function Mark({ state, children }: { state: Step["state"]; children?: ReactNode }) {
  return (
    <span className={`inline-flex items-center gap-1.5 font-semibold whitespace-nowrap ${tone[state]}`}>
      <Bar kind={glyph[state]} />
      <span>{children ?? word[state]}</span>
    </span>
  );
}

/** One step or check: a bar, what it is, what was found, what to do, and how long it took. */
export function StepRow({ step: s }: { step: Step }) {
  return (
    <tr>
      <td className={`w-7 ${tone[s.state]}`}>
        <Bar kind={glyph[s.state]} />
        <span className="sr-only">{word[s.state]}</span>
      </td>
      <td className="w-60 [overflow-wrap:anywhere]">
        <b>{s.title}</b>
        {s.server && <div className="mono text-[11.5px] text-soft">{s.server}</div>}
      </td>
      <td className="[overflow-wrap:anywhere]">
        <span className={`${s.state === "fail" ? "text-out" : ""}`}>{s.state === "running" ? "..." : s.detail}</span>
        {s.remedy && <div className="font-semibold">{sentence(s.remedy)}</div>}
      </td>
      <td className="mono w-20 text-right text-soft">{s.state !== "running" && millis(s.micros)}</td>
    </tr>
  );
}

export function Steps({ steps }: { steps: Step[] }) {
  if (steps.length === 0) return null;
  return (
    <table className="grid-table table-fixed" aria-live="polite">
      <tbody>
        {steps.map((s) => (
          <StepRow key={s.key + (s.server ?? "")} step={s} />
        ))}
      </tbody>
    </table>
  );
}

/** Runs a call that reports steps as they happen, one at a time; the last event is its outcome. */
export function useSteps<End, S extends Step = Step>(path: string) {
  const [steps, setSteps] = useState<S[]>([]);
  const [end, setEnd] = useState<End | null>(null);
  const [running, setRunning] = useState(false);
  const [error, setError] = useState<unknown>(null);
  const stop = useRef<AbortController>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const run = async (body: unknown): Promise<End | null> => {
    stop.current?.abort();
    const mine = (stop.current = new AbortController());
    setSteps([]);
    setEnd(null);
    setError(null);
    setRunning(true);
    let outcome: End | null = null;
    try {
      await stream(path, body, mine.signal, (name, data) => {
        if (name === "end") {
          outcome = data as End;
          setEnd(outcome);
          return;
        }
        const step = data as S & { id?: string };
        const key = (s: S & { id?: string }) => [s.id, s.key, s.server].join(" ");
        setSteps((old) => {
          const at = old.findIndex((s) => key(s) === key(step));
          return at < 0 ? [...old, step] : old.map((s, i) => (i === at ? step : s));
        });
      });
    } catch (e) {
      if (!mine.signal.aborted) setError(e);
    } finally {
      if (stop.current === mine) setRunning(false);
    }
    return outcome;
  };
  return { steps, end, running, error, run, cancel: () => stop.current?.abort() };
}
