import type { Schema } from "../../api/client";
import { Notice, Verdict, When } from "../../ui/basic";

export type Factor = Schema["Factor"];

/** What a second factor is, for people. */
export const kinds: Record<Factor["kind"], string> = {
  code: "one-time codes",
  phone: "approves sign-ins",
  key: "security key",
  temporary: "temporary code",
};

export function State({ x }: { x: Factor }) {
  if (x.kind === "temporary")
    return (
      <Verdict kind="wait">
        until <When at={x.temporaryUntil!} long />
      </Verdict>
    );
  if (!x.confirmed) return <Verdict kind="wait">not confirmed</Verdict>;
  if (x.alarm) return <Verdict kind="out">this is not me</Verdict>;
  if (x.pausedUntil)
    return (
      <Verdict kind="out">
        not asked until <When at={x.pausedUntil} />
      </Verdict>
    );
  if (x.lockedUntil) return <Verdict kind="out">too many wrong codes</Verdict>;
  return <Verdict kind="in">in use</Verdict>;
}

export function Codes({ codes }: { codes: string[] }) {
  return (
    <>
      <Notice tone="in">
        <b>It is active from now on.</b>{" "}
        {codes.length > 0
          ? "These recovery codes are shown only here; each is good once, in place of a code. Give them to the person."
          : "The recovery codes that the person has stay good."}
      </Notice>
      <ul className="mono my-3 grid w-72 grid-cols-2 gap-x-8 gap-y-1 text-[14px]" data-secret>
        {codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
    </>
  );
}
