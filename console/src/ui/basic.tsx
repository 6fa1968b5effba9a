import { useEffect, type ButtonHTMLAttributes, type KeyboardEvent, type ReactNode } from "react";
import { Link } from "react-router";
import { Refused } from "../api/client";
import { rightOf, useWhyNot, type Right } from "../api/rights";

export type VerdictKind = "in" | "out" | "wait";

const angle = { in: -56, wait: -24, out: 0 };
const colour = { in: "text-in", wait: "text-wait", out: "text-out" };

/** A toll bar between two posts: raised, half-way, lowered. */
export function Bar({ kind, size = 21 }: { kind: VerdictKind; size?: number }) {
  return (
    <svg
      width={size}
      height={size * 0.82}
      viewBox="0 -8 22 25"
      className="shrink-0 overflow-visible"
      aria-hidden="true"
    >
      <rect x="1" y="6" width="3.6" height="11" fill="currentColor" />
      <rect x="18" y="10" width="3" height="7" fill="currentColor" />
      <rect x="1" y="6" width="20" height="3.4" fill="currentColor" transform={`rotate(${angle[kind]} 2.8 7.7)`} />
    </svg>
  );
}

export const verdictKind = (verdict: string): VerdictKind =>
  verdict === "admitted" || verdict === "admit" ? "in" : "out";

export function Verdict({ kind, children }: { kind: VerdictKind; children: ReactNode }) {
  return (
    <span className={`inline-flex items-center gap-1.5 font-semibold whitespace-nowrap ${colour[kind]}`}>
      <Bar kind={kind} />
      <span>{children}</span>
    </span>
  );
}

export function PassChip({ name, to }: { name: string; to?: string }) {
  const chip =
    "inline-block rounded-[2px] border border-l-4 border-brass bg-sheet px-[7px] text-[12.5px] leading-[17px] font-semibold text-brass-ink";
  return to ? (
    <Link className={chip} to={to}>
      {name}
    </Link>
  ) : (
    <span className={chip}>{name}</span>
  );
}

type ButtonProps = ButtonHTMLAttributes<HTMLButtonElement> & {
  primary?: boolean;
  danger?: boolean;
  needs?: Right;
};

export function Button({ primary, danger, needs, className = "", ...rest }: ButtonProps) {
  const why = useWhyNot(needs);
  const out = why ? { disabled: true, title: why } : {};
  const look = primary
    ? "border-brass-fill bg-brass-fill text-on-brass"
    : danger
      ? "border-hair bg-sheet text-out"
      : "border-hair bg-sheet text-ink hover:border-soft";
  return (
    <button
      type="button"
      {...rest}
      {...out}
      className={`inline-block rounded border px-[11px] py-[3px] text-[13px] font-semibold whitespace-nowrap ${look} ${className}`}
    />
  );
}

export function ButtonLink({ to, children, primary }: { to: string; children: ReactNode; primary?: boolean }) {
  const look = primary
    ? "border-brass-fill bg-brass-fill text-on-brass"
    : "border-hair bg-sheet text-ink hover:border-soft";
  const shape = "inline-block rounded border px-[11px] py-[3px] text-[13px] font-semibold whitespace-nowrap";
  const why = useWhyNot(rightOf(to));
  if (why) {
    return (
      <span aria-disabled title={why} className={`${shape} border-hair text-soft`}>
        {children}
      </span>
    );
  }
  return (
    <Link to={to} className={`${shape} ${look}`}>
      {children}
    </Link>
  );
}

export function Notice({ tone, children }: { tone: "out" | "warn" | "in" | "wait"; children: ReactNode }) {
  const look = {
    out: "border-out bg-out-bg",
    warn: "border-brass bg-warn-bg",
    in: "border-in bg-in-bg",
    wait: "border-wait bg-wait-bg",
  }[tone];
  return (
    <div role={tone === "out" ? "alert" : "status"} className={`border-l-[3px] px-3 py-2 text-[13px] ${look}`}>
      {children}
    </div>
  );
}

/** What the service refused, with the remedy. */
export function Failure({ error }: { error: unknown }) {
  if (!error) return null;
  const e = error instanceof Refused ? error : new Refused(0, String(error), "", []);
  return (
    <Notice tone="out">
      <b>{sentence(e.detail)}</b> {e.remedy}
      {e.faults.length > 0 && (
        <ul className="mt-1">
          {e.faults.map((f, i) => (
            <li key={i}>
              {f.field && <code className="text-soft">{f.field}</code>} {sentence(f.message)} {f.remedy}
            </li>
          ))}
        </ul>
      )}
    </Notice>
  );
}

export const sentence = (text: string) =>
  text ? text[0].toUpperCase() + text.slice(1) + (/[.!?]$/.test(text) ? "" : ".") : "";

const clock = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hour12: false,
});
const day = new Intl.DateTimeFormat(undefined, {
  weekday: "short",
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
  hour12: false,
});
const exact = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "long", hour12: false });

/** A local time, exact with the zone on hover. */
export function When({ at, long }: { at: string | Date; long?: boolean }) {
  const date = new Date(at);
  const today = date.toDateString() === new Date().toDateString();
  return (
    <time dateTime={date.toISOString()} title={exact.format(date)} className="mono text-soft whitespace-nowrap">
      {today && !long ? clock.format(date) : day.format(date)}
    </time>
  );
}

export function ago(at: string | Date): string {
  const s = Math.max(0, Math.round((Date.now() - new Date(at).getTime()) / 1000));
  if (s < 60) return `${s} s ago`;
  if (s < 3600) return `${Math.round(s / 60)} min ago`;
  if (s < 86400) return `${Math.round(s / 3600)} h ago`;
  return `${Math.round(s / 86400)} days ago`;
}

export const millis = (micros: number) =>
  (micros < 50 ? "<0.1" : micros < 10000 ? (micros / 1000).toFixed(1) : Math.round(micros / 1000).toString()) + " ms";

export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="border-b border-hair py-8 text-center">
      <div className="font-semibold">{title}</div>
      <div className="text-soft">{children}</div>
    </div>
  );
}

export function PageHead({ title, lead, children }: { title: ReactNode; lead?: ReactNode; children?: ReactNode }) {
  useEffect(() => {
    if (typeof title === "string") document.title = `${title} - Tollgate Key`;
  }, [title]);
  return (
    <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-2">
      <h1>{title}</h1>
      {lead && <span className="text-soft">{lead}</span>}
      <span className="ml-auto flex flex-wrap gap-2">{children}</span>
    </div>
  );
}

/** Where a page belongs, above its title. */
export function Trail({ to, of, children }: { to: string; of: string; children: ReactNode }) {
  return (
    <div className="text-[13px] text-soft">
      <Link to={to} className="hover:underline">
        {of}
      </Link>{" "}
      / {children}
    </div>
  );
}

/** Arrow keys move between the rows of a table, Enter opens one. */
export function rowKeys(open: () => void) {
  return {
    tabIndex: 0,
    onClick: open,
    onKeyDown: (e: KeyboardEvent<HTMLTableRowElement>) => {
      if (e.target !== e.currentTarget) return;
      const row = e.currentTarget;
      const next =
        e.key === "ArrowDown" ? row.nextElementSibling : e.key === "ArrowUp" ? row.previousElementSibling : null;
      if (next instanceof HTMLElement) {
        e.preventDefault();
        next.focus();
      }
      if (e.key === "Enter") open();
    },
  };
}
