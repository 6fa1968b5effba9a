import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Button, ButtonLink, Empty, Failure, Notice, PageHead, PassChip, rowKeys, When } from "../../ui/basic";
import { TextFilters } from "../../ui/records";
import { Rows } from "../../ui/rows";

type Page = Schema["PresencePage"];
const texts: Record<string, string> = { q: "Any text", group: "Group", source: "Source", in: "In the prefix" };

/** The page of an address. */
export const addressPage = (address: string, ports = "") =>
  `/presence/who?address=${encodeURIComponent(address)}${ports ? `&port=${ports.split("-")[0]}` : ""}`;

/** The page of a person. */
export const personPage = (who: string) => `/presence/people/${encodeURIComponent(who)}`;

/** Who is at which address now. */
export function PresencePage() {
  const go = useNavigate();
  const [params, setParams] = useSearchParams();
  const query = new URLSearchParams();
  for (const key of Object.keys(texts)) if (params.get(key)) query.set(key, params.get(key)!);
  const list = useInfiniteQuery({
    queryKey: ["presence", query.toString()],
    queryFn: ({ pageParam }) =>
      call<Page>("GET", `/presence?${query}&limit=100${pageParam ? `&after=${encodeURIComponent(pageParam)}` : ""}`),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
    refetchInterval: 2000,
    placeholderData: keepPreviousData,
  });
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const first = list.data?.pages[0];
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  return (
    <>
      <PageHead
        title="Presence"
        lead={first && `${first.total.toLocaleString()} at addresses${list.isError ? " · stale" : " · live"}`}
      >
        <ButtonLink to="/sightings?report=1">Report by hand</ButtonLink>
      </PageHead>
      <div className="mb-3 grid grid-cols-4 gap-2">
        <TextFilters of={{ params, set }} texts={texts} />
      </div>
      <Failure error={list.error} />
      {first && !first.complete && (
        <Notice tone="wait">This node has just started, and reads what it knew before. Firewalls wait for it.</Notice>
      )}
      {list.data && rows.length === 0 ? (
        <Empty title={query.size > 0 ? "Nobody fits" : "Nobody is known at any address"}>
          {query.size > 0 ? (
            <button className="underline" onClick={() => setParams({})}>
              Clear filters
            </button>
          ) : (
            <>
              Sessions with addresses come from accounting. What else sees people is added under{" "}
              <Link className="underline" to="/sources">
                Sources
              </Link>
              .
            </>
          )}
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Address</th>
              <th>Person</th>
              <th>Groups</th>
              <th>Role</th>
              <th>Device</th>
              <th>Source</th>
              <th className="!pr-0">Since</th>
            </tr>
          </thead>
          <tbody>
            <Rows
              items={rows}
              id={(p) => p.address + p.ports + p.who}
              row={(p) => (
                <tr {...rowKeys(() => go(addressPage(p.address, p.ports)))}>
                  <td className="mono">
                    {p.address}
                    {p.ports && <span className="text-soft"> {p.ports}</span>}
                  </td>
                  <td>
                    <Link to={personPage(p.who)} className="font-semibold hover:underline" title={p.who}>
                      {p.display || p.who}
                    </Link>
                  </td>
                  <td className="max-w-64 truncate" title={p.groups.join(", ")}>
                    {p.groups.join(", ")}
                  </td>
                  <td>{p.role && <PassChip name={p.role} />}</td>
                  <td className="mono">{p.host || p.mac}</td>
                  <td>{p.source}</td>
                  <td className="pr-0">
                    <When at={p.since} />
                  </td>
                </tr>
              )}
            />
          </tbody>
        </table>
      )}
      {list.hasNextPage && (
        <Button className="mt-3" disabled={list.isFetchingNextPage} onClick={() => list.fetchNextPage()}>
          More
        </Button>
      )}
    </>
  );
}
