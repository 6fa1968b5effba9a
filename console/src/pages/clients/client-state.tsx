import { Verdict } from "../../ui/basic";
import type { Client } from "./client";

export function State({ c }: { c: Client }) {
  if (!c.enabled) return <span className="text-soft">switched off</span>;
  if (c.problem?.current) return <Verdict kind="out">{c.problem.sentence}</Verdict>;
  if (c.lastSeen) return <Verdict kind="in">answers</Verdict>;
  return <Verdict kind="wait">never seen</Verdict>;
}
