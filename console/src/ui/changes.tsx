import { useState } from "react";
import type { Schema } from "../api/client";
import { Button } from "./basic";

type Change = Schema["ConfigChange"];

const verbs: Record<string, string> = {
  added: "text-in",
  removed: "text-out",
  changed: "text-brass-ink",
  moved: "text-wait",
};

/** How many of a kind are listed before one asks for more. */
const shown = 50;

/** Changes in words, grouped where there are many. With discard, each can be taken back by itself. */
export function Changes({
  list,
  more = 0,
  discard,
}: {
  list: Change[];
  more?: number;
  discard?: (part: Schema["DiscardPart"]) => void;
}) {
  const [text, setText] = useState("");
  if (list.length === 0) return <p className="text-soft">No difference.</p>;
  if (list.length <= 20) return <List list={list} discard={discard} more={more} />;
  const wanted = text.trim().toLowerCase();
  const fits = (c: Change) =>
    !wanted || `${c.what} ${c.kind} ${c.object} ${c.lines.join(" ")}`.toLowerCase().includes(wanted);
  const groups = new Map<string, Change[]>();
  for (const c of list.filter(fits)) {
    const name = `${c.what} ${c.kind}`;
    groups.set(name, [...(groups.get(name) ?? []), c]);
  }
  return (
    <>
      <input
        aria-label="Search the changes"
        placeholder="Search the changes"
        className="field mb-3 max-w-72"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      {groups.size === 0 && <p className="text-soft">No change holds this text.</p>}
      {[...groups].map(([name, of]) => (
        <details key={name} open={wanted !== "" || of.length <= 20} className="mb-2">
          <summary className="cursor-pointer font-semibold">
            {name}: {of.length.toLocaleString()}
          </summary>
          <Some of={of} discard={discard} />
        </details>
      ))}
      {more > 0 && <p className="text-soft">and {more.toLocaleString()} more, which are not listed</p>}
    </>
  );
}

function Some({ of, discard }: { of: Change[]; discard?: (part: Schema["DiscardPart"]) => void }) {
  const [count, setCount] = useState(shown);
  return (
    <div className="mt-1 ml-3">
      <List list={of.slice(0, count)} discard={discard} />
      {count < of.length && (
        <Button className="mt-1.5" onClick={() => setCount(count + 4 * shown)}>
          Show more of {of.length.toLocaleString()}
        </Button>
      )}
    </div>
  );
}

function List({
  list,
  more = 0,
  discard,
}: {
  list: Change[];
  more?: number;
  discard?: (part: Schema["DiscardPart"]) => void;
}) {
  return (
    <ul className="space-y-1.5 text-[13px]">
      {list.map((c) => (
        <li key={c.id + c.what}>
          <b className={verbs[c.what]}>{c.what}</b> {c.kind} <b>{c.object}</b>
          {discard && (
            <button
              type="button"
              className="ml-2 text-[12px] text-soft underline"
              onClick={() => discard({ kind: c.kind, id: c.id })}
            >
              discard
            </button>
          )}
          {c.lines.length > 0 && (
            <ul className="mono ml-4 text-soft">
              {c.lines.map((l, i) => (
                <li key={i} className="break-words">
                  {l}
                </li>
              ))}
            </ul>
          )}
          {discard && c.parts && c.parts.length > 0 && c.kind === "lane" && c.what === "changed" && (
            <div className="ml-4 text-[12px]">
              {c.parts.map((p) => (
                <button
                  key={p.id + p.what}
                  type="button"
                  className="mr-3 text-soft underline"
                  onClick={() => discard({ kind: "policy", id: p.id, lane: c.id })}
                >
                  discard policy {p.object} only
                </button>
              ))}
            </div>
          )}
        </li>
      ))}
      {more > 0 && <li className="text-soft">and {more.toLocaleString()} more, which are not listed</li>}
    </ul>
  );
}
