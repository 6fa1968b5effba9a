import { Rows, older } from "../../ui/rows";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type Schema } from "../../api/client";
import { useRecords } from "../../api/records";
import { Button, Failure, Notice, PageHead, rowKeys, When } from "../../ui/basic";
import { AtNode } from "../../ui/at-node";
import { Export, Liveness, RecordTable, TextFilters, TimeFilters } from "../../ui/records";

type Line = Schema["AuditLine"];
const texts = { q: "Any text", who: "Operator", name: "Object" };
const wide = ["q"];
const keys = [...Object.keys(texts), "kind", "object", "result", "node"];
const kinds = [
  "account",
  "certificate",
  "client",
  "device",
  "directory",
  "factor",
  "lane",
  "operator",
  "operator-settings",
  "pass",
  "revision",
  "session",
  "token",
];

/** Who did what. */
export function AuditPage() {
  const [open, setOpen] = useState("");
  const r = useRecords<Line>("audit", "line", keys);
  const node = r.params.get("node") ?? "";
  return (
    <>
      <PageHead title="Audit" lead={<Liveness of={r} />}>
        <AtNode value={node} choose={(name) => r.set("node", name)} />
        <Export path="audit-export" query={r.query} />
        <Button onClick={r.pause}>{r.live ? "Pause" : "Resume"}</Button>
      </PageHead>
      <Proof key={node} node={node} />
      <div className="mb-3 grid grid-cols-12 gap-2">
        <TextFilters of={r} texts={texts} wide={wide} />
        <TimeFilters of={r} />
        <select
          aria-label="Kind"
          value={r.params.get("kind") ?? ""}
          onChange={(e) => r.set("kind", e.target.value)}
          className="field col-span-2 text-[13px]"
        >
          <option value="">Any kind</option>
          {kinds.map((kind) => (
            <option key={kind}>{kind}</option>
          ))}
        </select>
        <select
          aria-label="Result"
          value={r.params.get("result") ?? ""}
          onChange={(e) => r.set("result", e.target.value)}
          className="field col-span-2 text-[13px]"
        >
          <option value="">Any result</option>
          {["done", "refused", "failed"].map((result) => (
            <option key={result}>{result}</option>
          ))}
        </select>
      </div>
      <RecordTable
        of={r}
        title="No matching lines"
        none="Whatever operators do is recorded here."
        head={
          <>
            <th>Line</th>
            <th>Time</th>
            <th>Operator</th>
            <th>What</th>
            <th>How</th>
            <th>From</th>
          </>
        }
      >
        <Rows
          items={r.rows}
          id={(l) => l.id}
          also={(l) => open === l.id}
          more={r.searched ? undefined : older(r.list)}
          row={(l) => <Row l={l} node={node} open={open === l.id} toggle={() => setOpen(open === l.id ? "" : l.id)} />}
        />
      </RecordTable>
    </>
  );
}

function Row({ l, node, open, toggle }: { l: Line; node: string; open: boolean; toggle: () => void }) {
  return (
    <>
      <tr {...rowKeys(toggle)}>
        <td className="mono text-soft">{l.number}</td>
        <td>
          <When at={l.at} />
        </td>
        <td>
          {l.who ? (
            <>
              <b>{l.who}</b> {l.role && <span className="text-soft">{l.role}</span>}
            </>
          ) : (
            <span className="text-soft">{l.how === "service" ? "the service" : "nobody known"}</span>
          )}
        </td>
        <td className="max-w-[520px] truncate" title={l.what}>
          {l.result !== "done" && <b className="text-out">{l.result}: </b>}
          {l.what}
        </td>
        <td className="max-w-48 truncate text-soft" title={l.how}>
          {l.how}
        </td>
        <td className="mono text-soft">{l.from}</td>
      </tr>
      {open && (
        <tr>
          <td colSpan={6} className="bg-paper">
            <Detail of={l} node={node} />
          </td>
        </tr>
      )}
    </>
  );
}

function Detail({ of, node }: { of: Line; node: string }) {
  const one = useQuery({
    queryKey: ["audit", "one", node, of.number],
    queryFn: () => call<Line>("GET", `/audit/${of.number}${node && `?node=${encodeURIComponent(node)}`}`),
  });
  const l = one.data ?? of;
  return (
    <div className="my-1 max-w-[980px] text-[13px]">
      {l.why && <p className="mb-2 text-out">{l.why}</p>}
      <ChangeList list={l.changes} />
      {(l.before !== undefined || l.after !== undefined) && (
        <details className="mt-2">
          <summary className="cursor-pointer text-soft">Before and after, with secrets masked</summary>
          <div className="mt-1 grid grid-cols-2 gap-4">
            {[
              ["before", l.before],
              ["after", l.after],
            ].map(([name, value]) => (
              <div key={String(name)}>
                <div className="text-soft">{String(name)}</div>
                <pre className="mono max-h-72 overflow-auto text-[12px]" tabIndex={0}>
                  {value === undefined ? "-" : JSON.stringify(value, null, 2)}
                </pre>
              </div>
            ))}
          </div>
        </details>
      )}
      {l.hash && <p className="mono mt-2 text-[11.5px] break-all text-soft">hash {l.hash}</p>}
    </div>
  );
}

function ChangeList({ list }: { list: Line["changes"] }) {
  return (
    <dl className="grid grid-cols-[220px_1fr] gap-x-4">
      {list.map((c, i) => (
        <div key={i} className="contents">
          <dt className="truncate text-soft" title={c.field}>
            {c.field}
          </dt>
          <dd className="[overflow-wrap:anywhere]">
            {c.before && (
              <>
                <span className="text-soft line-through">{c.before}</span> {"→ "}
              </>
            )}
            {c.after || (c.before ? "none" : "")}
          </dd>
        </div>
      ))}
    </dl>
  );
}

/** Checks the chain, and shows the head that can be noted elsewhere. */
function Proof({ node }: { node: string }) {
  const verify = useMutation({
    mutationFn: async () =>
      (await api.POST("/audit-verify", { body: {}, params: { query: { node: node || undefined } } })).data!,
  });
  const v = verify.data;
  const head = v && URL.createObjectURL(new Blob([JSON.stringify(v.head, null, 2)], { type: "application/json" }));
  return (
    <div className="mb-3 flex flex-wrap items-center gap-3 text-[13px]">
      <Button onClick={() => verify.mutate()} disabled={verify.isPending}>
        Verify
      </Button>
      {!v && !verify.error && (
        <span className="text-soft">Checks that no line was changed, removed, put in or moved.</span>
      )}
      <Failure error={verify.error} />
      {v?.intact && (
        <Notice tone="in">
          {v.lines.toLocaleString()} lines are as they were recorded ({v.millis} ms).{" "}
          <a className="underline" href={head} download={`audit-head-${v.head.number}.json`}>
            Keep the head, line {v.head.number}
          </a>
          , where this service cannot change it.
        </Notice>
      )}
      {v && !v.intact && (
        <Notice tone="out">
          <b>The audit was changed, at {v.broken} places.</b>
          <ul>
            {v.breaks.map((b, i) => (
              <li key={i}>{b.what}</li>
            ))}
          </ul>
        </Notice>
      )}
    </div>
  );
}
