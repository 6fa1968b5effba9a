import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { call, type Schema } from "../api/client";
import { useLive } from "../api/hooks";
import { Button, Empty, Failure, millis, PageHead, PassChip, rowKeys, Verdict, verdictKind, When } from "../ui/basic";

type Attempt = Schema["Attempt"];
const filters = ["q", "user", "mac", "client", "reason", "lane"] as const;
const labels: Record<string, string> = { q: "Any text", user: "User", mac: "MAC", client: "Client", reason: "Reason", lane: "Lane" };

/** A moment as the field for it wants it: local time without zone. */
const local = (iso: string | null) => (iso ? new Date(new Date(iso).getTime() - new Date(iso).getTimezoneOffset() * 60_000).toISOString().slice(0, 16) : "");

export function AttemptsPage() {
  const [params, setParams] = useSearchParams();
  const go = useNavigate();
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  const [fresh, setFresh] = useState<Attempt[]>([]);
  const query = useMemo(() => {
    const out = new URLSearchParams();
    for (const key of [...filters, "verdict", "since", "until"]) if (params.get(key)) out.set(key, params.get(key)!);
    return out.toString();
  }, [params]);
  const list = useInfiniteQuery({
    queryKey: ["attempts", query],
    queryFn: ({ pageParam }) => call<Schema["PageAttempt"]>("GET", `/attempts?${query}&limit=100${pageParam ? `&before=${pageParam}` : ""}`),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
  });
  const { stale, lost } = useLive(query, live && !params.get("until"), useCallback((a: Attempt) => setFresh((old) => [a, ...old].slice(0, 300)), []));
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setFresh([]);
    setParams(next, { replace: true });
  };
  const old = list.data?.pages.flatMap((p) => p.items) ?? [];
  const known = new Set(old.map((a) => a.id));
  const rows = [...fresh.filter((a) => !known.has(a.id)), ...old];
  return (
    <>
      <PageHead title="Attempts" lead={live ? (stale ? <b className="text-out">stale: nothing came for a while</b> : lost > 0 ? `live, ${lost} left out` : "live") : "paused"}>
        <Button onClick={() => { setLive(!live); if (!live) { setFresh([]); queries.invalidateQueries({ queryKey: ["attempts"] }); } }}>{live ? "Pause" : "Go on"}</Button>
      </PageHead>
      <div className="mb-3 grid grid-cols-12 gap-2">
        {filters.map((key) => (
          <input key={key + (params.get(key) ?? "")} aria-label={labels[key]} placeholder={labels[key]} defaultValue={params.get(key) ?? ""} className="field text-[13px]"
            onKeyDown={(e) => e.key === "Enter" && set(key, e.currentTarget.value)} onBlur={(e) => e.currentTarget.value !== (params.get(key) ?? "") && set(key, e.currentTarget.value)} />
        ))}
        {(["since", "until"] as const).map((key) => (
          <input key={key} type="datetime-local" aria-label={key === "since" ? "From" : "Until"} title={key === "since" ? "From" : "Until"} value={local(params.get(key))} className="field col-span-2 text-[13px]"
            onChange={(e) => set(key, e.target.value ? new Date(e.target.value).toISOString() : "")} />
        ))}
        <select aria-label="Verdict" value={params.get("verdict") ?? ""} onChange={(e) => set("verdict", e.target.value)} className="field col-span-2 text-[13px]">
          <option value="">Any verdict</option>
          <option value="admitted">admitted</option>
          <option value="refused">refused</option>
        </select>
      </div>
      <Failure error={list.error} />
      {list.data && rows.length === 0 ? (
        <Empty title="No attempt fits">{query ? <button className="underline" onClick={() => setParams({})}>Take the filters away</button> : "They appear here as they arrive."}</Empty>
      ) : (
        <table className="grid-table">
          <thead><tr><th>Time</th><th>Verdict</th><th>Name</th><th>Person</th><th>Where</th><th>Client</th><th>Pass or reason</th><th className="!pr-0 !text-right">Took</th></tr></thead>
          <tbody>
            {rows.map((a) => (
              <tr key={a.id} {...rowKeys(() => go(`/attempts/${a.id}`))}>
                <td><When at={a.at} /></td>
                <td><Verdict kind={verdictKind(a.verdict)}>{a.verdict}</Verdict></td>
                <td className="mono max-w-56 truncate">{a.sent}</td>
                <td>{a.person}</td>
                <td>{a.where}</td>
                <td className="mono">{a.client}</td>
                <td>{a.verdict === "admitted" ? <>{a.pass ? <PassChip name={a.pass} /> : <span className="text-soft">granted remotely</span>} {a.vlan && <span className="mono text-soft">VLAN {a.vlan}</span>}</> : <span className="mono text-out" title={a.sentence}>{a.reason}</span>}</td>
                <td className="mono pr-0 text-right text-soft">{millis(a.micros)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {list.hasNextPage && <Button className="mt-3" disabled={list.isFetchingNextPage} onClick={() => list.fetchNextPage()}>Older</Button>}
    </>
  );
}
