import type { Schema } from "../api/client";
import { ago } from "./basic";

/** How often something decided in the last 48 hours, drawn by the hour, and when last. */
export function HitCount({ hits }: { hits: Schema["Hits"][] }) {
  if (hits.length === 0) return <span className="text-[12px] text-soft">not running</span>;
  const hours = hits[0].hours.map((_, i) => hits.reduce((n, h) => n + h.hours[i], 0));
  const sum = hours.reduce((a, b) => a + b, 0);
  const since = hits.reduce((n, h) => n + h.since, 0);
  const before = hits.reduce((n, h) => n + h.before, 0);
  const last = hits
    .map((h) => h.last)
    .filter(Boolean)
    .sort()
    .at(-1);
  const top = Math.max(1, ...hours);
  const said = `${since.toLocaleString()} under this revision, ${before.toLocaleString()} before; ${last ? `last ${ago(last)}` : "never"}`;
  return (
    <span className="block pr-2 text-[12px]" title={said}>
      <svg
        viewBox="0 0 96 14"
        width="96"
        height="14"
        role="img"
        aria-label={`${sum} in 48 hours; ${said}`}
        className="block"
      >
        <rect x="0" y="13.4" width="96" height=".6" fill="var(--hair)" />
        {hours.map(
          (n, i) =>
            n > 0 && (
              <rect
                key={i}
                x={i * 2}
                width="1.4"
                y={14 - Math.max(1.5, (n / top) * 13)}
                height={Math.max(1.5, (n / top) * 13)}
                fill="var(--brass)"
              />
            ),
        )}
      </svg>
      {hits.every((h) => h.stale) ? (
        <span className="text-out">never in 90 days</span>
      ) : sum > 0 ? (
        <span className="text-soft">
          {sum.toLocaleString()}, {ago(last!)}
        </span>
      ) : (
        <span className="text-soft">{last ? ago(last) : "never yet"}</span>
      )}
    </span>
  );
}
