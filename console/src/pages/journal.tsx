import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { call, type Schema } from "../api/client";
import { useStream } from "../api/hooks";
import { Button, Empty, Failure, PageHead, PassChip, rowKeys, Verdict, verdictKind, When } from "../ui/basic";

type Entry = Schema["JournalEntry"];
const filters = ["q", "user", "client"] as const;
const labels: Record<string, string> = { q: "Command or any text", user: "User", client: "Device" };
const kinds: [string, string][] = [["", "Everything"], ["login", "Sign-ins"], ["enable", "Enable"], ["command", "Commands"], ["shell", "Shells"], ["record", "What gear reported"]];

/** A moment as the field for it wants it: local time without zone. */
const local = (iso: string | null) => (iso ? new Date(new Date(iso).getTime() - new Date(iso).getTimezoneOffset() * 60_000).toISOString().slice(0, 16) : "");

/** What was done on network gear. */
export function JournalPage() {
  const [params, setParams] = useSearchParams();
  const [live, setLive] = useState(true);
  const [fresh, setFresh] = useState<Entry[]>([]);
  const [open, setOpen] = useState("");
  const query = useMemo(() => {
    const out = new URLSearchParams();
    for (const key of [...filters, "kind", "verdict", "since", "until", "task"]) if (params.get(key)) out.set(key, params.get(key)!);
    return out.toString();
  }, [params]);
  const list = useInfiniteQuery({
    queryKey: ["journal", query],
    queryFn: ({ pageParam }) => call<Schema["PageJournalEntry"]>("GET", `/journal?${query}&limit=100${pageParam ? `&before=${pageParam}` : ""}`),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
  });
  const { stale, lost } = useStream<Entry>("journal-live", "entry", query, live && !params.get("until"), useCallback((e: Entry) => setFresh((old) => [e, ...old].slice(0, 300)), []));
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setFresh([]);
    setParams(next, { replace: true });
  };
  const old = list.data?.pages.flatMap((p) => p.items) ?? [];
  const known = new Set(old.map((e) => e.id));
  const rows = [...fresh.filter((e) => !known.has(e.id)), ...old];
  const file = (format: string) => <a className="inline-block rounded border border-hair bg-sheet px-[11px] py-[3px] text-[13px] font-semibold hover:border-soft" href={`/api/v1/journal-export?${query}&format=${format}`} download>{format === "csv" ? "CSV" : "JSON lines"}</a>;
  return (
    <>
      <PageHead title="Gear journal" lead={live ? (stale ? <b className="text-out">stale: nothing came for a while</b> : lost > 0 ? `live, ${lost} left out` : "live") : "paused"}>
        {file("csv")}{file("jsonl")}
        <Button onClick={() => { setLive(!live); if (!live) { setFresh([]); list.refetch(); } }}>{live ? "Pause" : "Go on"}</Button>
      </PageHead>
      <div className="mb-3 grid grid-cols-12 gap-2">
        {filters.map((key) => (
          <input key={key + (params.get(key) ?? "")} aria-label={labels[key]} placeholder={labels[key]} defaultValue={params.get(key) ?? ""} className={`field text-[13px] ${key === "q" ? "col-span-2" : ""}`}
            onKeyDown={(e) => e.key === "Enter" && set(key, e.currentTarget.value)} onBlur={(e) => e.currentTarget.value !== (params.get(key) ?? "") && set(key, e.currentTarget.value)} />
        ))}
        {(["since", "until"] as const).map((key) => (
          <input key={key} type="datetime-local" aria-label={key === "since" ? "From" : "Until"} title={key === "since" ? "From" : "Until"} value={local(params.get(key))} className="field col-span-2 text-[13px]"
            onChange={(e) => set(key, e.target.value ? new Date(e.target.value).toISOString() : "")} />
        ))}
        <select aria-label="Kind" value={params.get("kind") ?? ""} onChange={(e) => set("kind", e.target.value)} className="field col-span-2 text-[13px]">{kinds.map(([v, text]) => <option key={v} value={v}>{text}</option>)}</select>
        <select aria-label="Verdict" value={params.get("verdict") ?? ""} onChange={(e) => set("verdict", e.target.value)} className="field col-span-2 text-[13px]">
          <option value="">Any verdict</option><option value="admitted">admitted</option><option value="refused">refused</option>
        </select>
      </div>
      <Failure error={list.error} />
      {list.data && rows.length === 0 ? (
        <Empty title="No entry fits">{query ? <button className="underline" onClick={() => setParams({})}>Take the filters away</button> : "Sign-ins and commands on network gear are kept here, apart from the attempts."}</Empty>
      ) : (
        <table className="grid-table">
          <thead><tr><th>Time</th><th>Verdict</th><th>User</th><th>Device</th><th>What</th><th>Command</th><th>Decided by</th><th>From</th></tr></thead>
          <tbody>
            {rows.map((e) => (
              <Row key={e.id} e={e} open={open === e.id} toggle={() => setOpen(open === e.id ? "" : e.id)} />
            ))}
          </tbody>
        </table>
      )}
      {list.hasNextPage && <Button className="mt-3" disabled={list.isFetchingNextPage} onClick={() => list.fetchNextPage()}>Older</Button>}
    </>
  );
}

function Row({ e, open, toggle }: { e: Entry; open: boolean; toggle: () => void }) {
  return (
    <>
      <tr {...rowKeys(toggle)} aria-expanded={open}>
        <td><When at={e.at} /></td>
        <td>{e.verdict ? <Verdict kind={verdictKind(e.verdict)}>{e.verdict}</Verdict> : <span className="text-soft">reported</span>}</td>
        <td className="mono">{e.user}{e.trial && <span className="text-soft"> (tried)</span>}</td>
        <td className="mono">{e.client}</td>
        <td className="whitespace-nowrap">{e.what}</td>
        <td className="mono max-w-80 truncate" title={e.command}>{e.command}</td>
        <td className="max-w-72 truncate">{e.verdict === "refused" && e.kind !== "command" ? <span className="mono text-out" title={e.sentence}>{e.reason}</span> : e.line ? <span className="mono text-[12px] text-soft" title={e.line}>{e.line}</span> : e.pass ? <PassChip name={e.pass} /> : e.reason && e.reason !== "ok" && <span className="mono text-out">{e.reason}</span>}</td>
        <td className="mono text-soft">{e.from}</td>
      </tr>
      {open && <tr><td colSpan={8} className="bg-paper"><Detail e={e} /></td></tr>}
    </>
  );
}

function Detail({ e }: { e: Entry }) {
  const one = useQuery({ queryKey: ["journal", "one", e.id], queryFn: () => call<Entry>("GET", `/journal/${e.id}`) });
  const d = one.data ?? e;
  return (
    <dl className="my-1 grid max-w-[900px] grid-cols-[110px_1fr] text-[13px]">
      {[["why", d.sentence], ["person", d.person], ["port", d.port], ["level", String(d.level)], ["pass", d.pass], ["line", d.line], ["task", d.task], ["arguments", d.args.join(" ")]].filter(([, v]) => v).map(([k, v]) => (
        <div key={k} className="contents"><dt className="text-soft">{k}</dt><dd className="mono [overflow-wrap:anywhere]">{v}</dd></div>
      ))}
      <dt className="text-soft">more</dt>
      <dd className="flex gap-4">
        {d.attempt && <Link className="underline" to={`/attempts/${d.attempt}`}>Its road</Link>}
        {d.task && <Link className="underline" to={`/journal?task=${encodeURIComponent(d.task)}&client=${encodeURIComponent(d.client)}`}>This session</Link>}
        <Link className="underline" to={`/journal?user=${encodeURIComponent(d.user)}`}>Everything of {d.user}</Link>
      </dd>
    </dl>
  );
}
