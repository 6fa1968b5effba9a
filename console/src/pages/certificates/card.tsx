import { type Schema } from "../../api/client";
import { Verdict } from "../../ui/basic";

export type Info = Schema["ResultsCertificate"];

/** Days until something expires, loud in the last 45. */
export function Left({ days, until }: { days: number; until: string }) {
  const date = <span className="mono">{until.slice(0, 10)}</span>;
  if (days < 0) return <Verdict kind="out">expired {date}</Verdict>;
  if (days <= 45)
    return (
      <Verdict kind="wait">
        {days} days, {date}
      </Verdict>
    );
  return (
    <span>
      {date} <span className="text-soft">in {days} days</span>
    </span>
  );
}

/** One certificate in full. */
export function Card({ info, title }: { info: Info; title?: string }) {
  const rows: [string, string][] = [
    ["subject", info.subject],
    ["issued by", info.issuer],
    ["DNS names", info.dns.join(", ")],
    ["valid", `${info.from.slice(0, 10)} to ${info.until.slice(0, 10)}`],
    ["serial", info.serial],
    ["key", info.key],
    ["SHA-256", info.sha256],
  ];
  return (
    <div className="mb-3">
      {title && <h2 className="mb-1">{title}</h2>}
      <dl className="grid grid-cols-[96px_minmax(0,1fr)] text-[13px]">
        {rows
          .filter(([, v]) => v)
          .map(([k, v]) => (
            <div key={k} className="contents">
              <dt className="border-b border-hair py-[3px] text-soft">{k}</dt>
              <dd className="mono border-b border-hair py-[3px] [overflow-wrap:anywhere]">{v}</dd>
            </div>
          ))}
      </dl>
    </div>
  );
}
