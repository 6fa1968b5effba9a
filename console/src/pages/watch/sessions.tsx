import { Rows } from "../../ui/rows";
import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Button, Empty, Failure, PageHead, PassChip, rowKeys, When } from "../../ui/basic";
import { Elsewhere, Export, TextFilters } from "../../ui/records";
import { AskMany } from "./session-ask";
import { amount, lasts } from "./session-format";

type Session = Schema["Session"];
type Page = Schema["SessionPage"];
const texts: Record<string, string> = {
  q: "Any text",
  user: "User",
  mac: "MAC",
  client: "Client",
  pass: "Pass",
  address: "Address",
};

/** The VLAN that was given, and in red what the device says if that is another. */
export function VLANs({ s }: { s: Session }) {
  return (
    <>
      <span className="mono">{s.vlan}</span>
      {s.applied && s.applied !== s.vlan && <span className="text-out"> device says {s.applied}</span>}
    </>
  );
}

/** Who is connected now, and who was. */
export function SessionsPage() {
  const go = useNavigate();
  const [params, setParams] = useSearchParams();
  const [asking, setAsking] = useState(false);
  const ended = params.get("state") === "ended";
  const query = new URLSearchParams();
  for (const key of [...Object.keys(texts), "state"]) if (params.get(key)) query.set(key, params.get(key)!);
  const list = useInfiniteQuery({
    queryKey: ["sessions", query.toString()],
    queryFn: ({ pageParam }) =>
      call<Page>("GET", `/sessions?${query}&limit=100${pageParam ? `&before=${pageParam}` : ""}`),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
    refetchInterval: 3000,
    placeholderData: keepPreviousData,
  });
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const open = list.data?.pages[0]?.open ?? 0;
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  const filtered = [...query.keys()].some((k) => k !== "state");
  return (
    <>
      <PageHead
        title="Sessions"
        lead={list.data && `${open.toLocaleString()} open${list.isError ? " · stale" : " · live"}`}
      >
        <Export path="sessions-export" query={query.toString()} />
        {!ended && filtered && rows.length > 0 && (
          <Button needs="assist" onClick={() => setAsking(true)}>
            Change these…
          </Button>
        )}
      </PageHead>
      <div className="mb-3 grid grid-cols-8 gap-2">
        <TextFilters of={{ params, set }} texts={texts} disabled={ended ? ["pass", "address"] : []} />
        <select
          aria-label="State"
          value={params.get("state") ?? ""}
          onChange={(e) => set("state", e.target.value)}
          className="field col-span-2 text-[13px]"
        >
          <option value="">Open</option>
          <option value="ended">Ended</option>
        </select>
      </div>
      <Failure error={list.error} />
      <Elsewhere missing={list.data?.pages[0]?.missing} copied={list.data?.pages[0]?.copied} />
      {list.data && rows.length === 0 ? (
        <Empty title={filtered ? "No matching sessions" : ended ? "No session has ended yet" : "No open sessions"}>
          {filtered ? (
            <button className="underline" onClick={() => setParams({})}>
              Clear filters
            </button>
          ) : (
            "Set up accounting on your switches, controllers and VPN gateways, with this server's address and port 1813."
          )}
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Person or device</th>
              <th>Client</th>
              <th>Where</th>
              <th>Pass</th>
              <th>VLAN</th>
              <th>Address</th>
              <th>{ended ? "Ended" : "Since"}</th>
              <th className="!text-right">Lasts</th>
              <th className="!pr-0 !text-right">Data</th>
            </tr>
          </thead>
          <tbody>
            <Rows
              items={rows}
              id={(s) => s.id + s.last}
              row={(s) => (
                <tr {...rowKeys(() => go(`/sessions/${s.id}`))}>
                  <td className="max-w-56 truncate" title={s.user}>
                    <b>{s.person || s.user}</b>
                  </td>
                  <td className="mono">{s.client}</td>
                  <td className="mono">{s.place}</td>
                  <td>{s.pass && <PassChip name={s.pass} />}</td>
                  <td className="whitespace-nowrap">
                    <VLANs s={s} />
                  </td>
                  <td className="mono">{s.address}</td>
                  <td>
                    <When at={ended ? s.last : s.began} />
                  </td>
                  <td className="text-right whitespace-nowrap">
                    {lasts(s)}
                    {ended && s.cause && <div className="text-[12px] text-soft">{s.cause}</div>}
                  </td>
                  <td className="pr-0 text-right whitespace-nowrap">{amount(s.in + s.out)}</td>
                </tr>
              )}
            />
          </tbody>
        </table>
      )}
      {list.hasNextPage && (
        <Button className="mt-3" disabled={list.isFetchingNextPage} onClick={() => list.fetchNextPage()}>
          Older
        </Button>
      )}
      {asking && <AskMany query={query} onClose={() => setAsking(false)} />}
    </>
  );
}
