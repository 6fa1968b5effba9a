import type { Schema } from "../../api/client";

type Node = Schema["Node"];

const width = 170;
const height = 54;

/** Where a node stands: on an oval, the one that answers at the top left. */
function place(i: number, count: number): [x: number, y: number] {
  const few: Record<number, [number, number][]> = {
    2: [
      [250, 60],
      [590, 60],
    ],
    3: [
      [250, 45],
      [590, 45],
      [420, 165],
    ],
  };
  if (few[count]) return few[count][i];
  const turn = (2 * Math.PI * i) / count - (Math.PI * 3) / 4;
  return [420 + 300 * Math.cos(turn), 105 + 78 * Math.sin(turn)];
}

const gone = (n: Node) => n.state === "silent";

/** The nodes and the ways between them, as the one that answers sees them. */
export function Picture({ nodes }: { nodes: Schema["Nodes"] }) {
  const list = nodes.items;
  const at = list.map((_, i) => place(i, list.length));
  const pairs = list.flatMap((_, i) => list.slice(i + 1).map((_, j) => [i, i + 1 + j] as const));
  const words = list.map((n) => `${n.name}: ${n.says}`).join("; ");
  return (
    <svg viewBox={`0 0 840 ${list.length === 2 ? 120 : 214}`} className="mb-3 w-full max-w-[840px]" role="img">
      <title>{words}</title>
      {pairs.map(([a, b]) => {
        const off = gone(list[a]) || gone(list[b]);
        return (
          <line
            key={`${a}-${b}`}
            x1={at[a][0]}
            y1={at[a][1]}
            x2={at[b][0]}
            y2={at[b][1]}
            strokeWidth={off ? 1.5 : 1.8}
            strokeDasharray={off ? "2 5" : undefined}
            className={off ? "stroke-out" : "stroke-ink"}
          />
        );
      })}
      {list.map((n, i) => {
        const [x, y] = at[i];
        const bad = gone(n) || n.state === "engine";
        return (
          <g key={n.number} transform={`translate(${x - width / 2} ${y - height / 2})`}>
            <rect
              width={width}
              height={height}
              strokeWidth={bad ? 2.2 : 1.4}
              className={`fill-sheet ${bad ? "stroke-out" : "stroke-ink"}`}
            />
            <text x="12" y="23" className="fill-ink text-[13.5px] font-bold">
              {n.name}
            </text>
            <text x="12" y="42" className={`text-[11.5px] ${bad ? "fill-out" : "fill-soft"}`}>
              {below(n, !!nodes.etcd)}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

/** What stands under the name of a node. */
function below(n: Node, etcd: boolean): string {
  if (gone(n)) return n.seen ? "does not answer" : "never reached";
  if (n.state === "engine") return etcd ? "answers · cut off" : "answers · engine down";
  if (n.state === "joining") return "joining";
  if (n.witness) return n.leads ? "witness · leads" : "witness · reads nothing";
  const role = etcd ? "up to date" : n.leads ? "leads" : "follows";
  return n.behind > 0
    ? `${etcd ? "follows" : role} · ${n.behind} behind`
    : `${role} · ${n.attempts.toLocaleString()} attempts/h`;
}
