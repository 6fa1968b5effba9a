import type { Schema } from "../api/client";
import { millis } from "./basic";

const step = 118;

/** The road of one attempt: its stations with the time spent at each, ending at the bar, raised or lowered. */
export function Road({ trace }: { trace: Schema["ResultsTrace"] }) {
  const stations = trace.stations;
  const raised = trace.verdict === "admitted";
  const decided = stations.findIndex((s) => s.state === "decided");
  const width = 46 + stations.length * step;
  const cut = (text: string) => (text.length > 17 ? text.slice(0, 16) + "…" : text);
  return (
    <svg
      viewBox={`0 0 ${width} 104`}
      width="100%"
      className="block max-w-[1040px] overflow-visible"
      role="img"
      aria-label={`The road: ${trace.verdict} at ${stations[decided]?.title ?? "the end"}. ${trace.sentence}.`}
    >
      {stations.map((s, i) => {
        const x = 46 + i * step;
        const next = stations[i + 1];
        const dim = s.state === "not-reached";
        const here = i === decided && !raised;
        return (
          <g key={s.key}>
            {next && (
              <line
                x1={x + 9}
                y1={50}
                x2={x + step - 9}
                y2={50}
                stroke="var(--ink)"
                strokeWidth={2.4}
                strokeDasharray={next.state === "not-reached" ? "3 5" : undefined}
                opacity={next.state === "not-reached" ? 0.4 : 1}
              />
            )}
            {s.micros > 0 && (
              <text x={x} y={100} fontSize={11} textAnchor="middle" fill="var(--soft)">
                {millis(s.micros)}
              </text>
            )}
            {here ? (
              <>
                <circle cx={x} cy={50} r={12} fill="var(--sheet)" stroke="var(--out)" strokeWidth={3.4} />
                <circle cx={x} cy={50} r={4.4} fill="var(--out)" />
              </>
            ) : dim || s.state === "not-asked" ? (
              <circle
                cx={x}
                cy={50}
                r={6.4}
                fill="var(--paper)"
                stroke="var(--soft)"
                strokeWidth={1.6}
                strokeDasharray="3 3"
              />
            ) : (
              <circle cx={x} cy={50} r={7} fill={i === decided ? "var(--in)" : "var(--ink)"} />
            )}
            <text
              x={x}
              y={22}
              fontSize={13}
              fontWeight={i === decided ? 650 : 500}
              textAnchor="middle"
              fill={dim ? "var(--soft)" : "var(--ink)"}
            >
              {s.title}
            </text>
            <text
              x={x}
              y={80}
              fontSize={11.6}
              textAnchor="middle"
              fill={dim ? "var(--soft)" : "var(--ink)"}
              fontFamily="var(--font-mono)"
            >
              <title>{s.value}</title>
              {cut(s.value)}
            </text>
          </g>
        );
      })}
      <line
        x1={46 + (stations.length - 1) * step + 9}
        y1={50}
        x2={width - 46}
        y2={50}
        stroke="var(--ink)"
        strokeWidth={2.4}
        strokeDasharray={raised ? undefined : "3 5"}
        opacity={raised ? 1 : 0.4}
      />
      <g transform={`translate(${width - 58} 32) scale(2.2)`} color={raised ? "var(--in)" : "var(--out)"}>
        <rect x="1.4" y="7" width="3" height="9.5" fill="currentColor" />
        <rect x="17.6" y="9.4" width="3" height="7.1" fill="currentColor" />
        <g transform={`rotate(${raised ? -58 : 0} 2.9 8.2)`}>
          <rect x="1.4" y="6.9" width="19.2" height="2.6" fill="currentColor" />
          <rect x="7" y="6.9" width="2.4" height="2.6" fill="var(--paper)" />
          <rect x="12.6" y="6.9" width="2.4" height="2.6" fill="var(--paper)" />
        </g>
      </g>
    </svg>
  );
}
