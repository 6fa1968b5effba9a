import { Rows, older } from "../../ui/rows";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { call, type Schema } from "../../api/client";
import { useRecords } from "../../api/records";
import { Button, PageHead, PassChip, rowKeys, Verdict, verdictKind, When } from "../../ui/basic";
import { Export, Filters, Liveness, RecordTable } from "../../ui/records";

type Entry = Schema["JournalEntry"];
const texts = { q: "Command or any text", user: "User", client: "Device" };
const keys = [...Object.keys(texts), "kind", "verdict", "task"];
const wide = ["q"];
const kinds: [string, string][] = [
  ["", "Everything"],
  ["login", "Sign-ins"],
  ["enable", "Enable"],
  ["command", "Commands"],
  ["shell", "Shells"],
  ["record", "What gear reported"],
];

/** What was done on network gear. */
export function JournalPage() {
  const [open, setOpen] = useState("");
  const r = useRecords<Entry>("journal", "entry", keys);
  return (
    <>
      <PageHead title="Gear journal" lead={<Liveness of={r} />}>
        <Export path="journal-export" query={r.query} />
        <Button onClick={r.pause}>{r.live ? "Pause" : "Resume"}</Button>
      </PageHead>
      <Filters of={r} texts={texts} wide={wide}>
        <select
          aria-label="Kind"
          value={r.params.get("kind") ?? ""}
          onChange={(e) => r.set("kind", e.target.value)}
          className="field col-span-2 text-[13px]"
        >
          {kinds.map(([v, text]) => (
            <option key={v} value={v}>
              {text}
            </option>
          ))}
        </select>
      </Filters>
      <RecordTable
        of={r}
        title="No matching entries"
        none="Sign-ins and commands on network gear are kept here, apart from the attempts."
        head={
          <>
            <th>Time</th>
            <th>Verdict</th>
            <th>User</th>
            <th>Device</th>
            <th>What</th>
            <th>Command</th>
            <th>Decided by</th>
            <th>From</th>
          </>
        }
      >
        <Rows
          items={r.rows}
          id={(e) => e.id}
          also={(e) => open === e.id}
          more={r.searched ? undefined : older(r.list)}
          row={(e) => <Row e={e} open={open === e.id} toggle={() => setOpen(open === e.id ? "" : e.id)} />}
        />
      </RecordTable>
    </>
  );
}

function Row({ e, open, toggle }: { e: Entry; open: boolean; toggle: () => void }) {
  return (
    <>
      <tr {...rowKeys(toggle)}>
        <td>
          <When at={e.at} />
        </td>
        <td>
          {e.verdict ? (
            <Verdict kind={verdictKind(e.verdict)}>{e.verdict}</Verdict>
          ) : (
            <span className="text-soft">reported</span>
          )}
        </td>
        <td className="mono">
          {e.user}
          {e.trial && <span className="text-soft"> (tried)</span>}
        </td>
        <td className="mono">{e.client}</td>
        <td className="whitespace-nowrap">{e.what}</td>
        <td className="mono max-w-80 truncate" title={e.command}>
          {e.command}
        </td>
        <td className="max-w-72 truncate">
          {e.verdict === "refused" && e.kind !== "command" ? (
            <span className="mono text-out" title={e.sentence}>
              {e.reason}
            </span>
          ) : e.line ? (
            <span className="mono text-[12px] text-soft" title={e.line}>
              {e.line}
            </span>
          ) : e.pass ? (
            <PassChip name={e.pass} />
          ) : (
            e.reason && e.reason !== "ok" && <span className="mono text-out">{e.reason}</span>
          )}
        </td>
        <td className="mono text-soft">{e.from}</td>
      </tr>
      {open && (
        <tr>
          <td colSpan={8} className="bg-paper">
            <Detail e={e} />
          </td>
        </tr>
      )}
    </>
  );
}

function Detail({ e }: { e: Entry }) {
  const one = useQuery({ queryKey: ["journal", "one", e.id], queryFn: () => call<Entry>("GET", `/journal/${e.id}`) });
  const d = one.data ?? e;
  return (
    <dl className="my-1 grid max-w-[900px] grid-cols-[110px_1fr] text-[13px]">
      {[
        ["why", d.sentence],
        ["person", d.person],
        ["port", d.port],
        ["level", String(d.level)],
        ["pass", d.pass],
        ["line", d.line],
        ["task", d.task],
        ["arguments", d.args.join(" ")],
      ]
        .filter(([, v]) => v)
        .map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="text-soft">{k}</dt>
            <dd className="mono [overflow-wrap:anywhere]">{v}</dd>
          </div>
        ))}
      <dt className="text-soft">more</dt>
      <dd className="flex gap-4">
        {d.attempt && (
          <Link className="underline" to={`/attempts/${d.attempt}`}>
            Its road
          </Link>
        )}
        {d.task && (
          <Link
            className="underline"
            to={`/journal?task=${encodeURIComponent(d.task)}&client=${encodeURIComponent(d.client)}`}
          >
            This session
          </Link>
        )}
        <Link className="underline" to={`/journal?user=${encodeURIComponent(d.user)}`}>
          Everything of {d.user}
        </Link>
      </dd>
    </dl>
  );
}
