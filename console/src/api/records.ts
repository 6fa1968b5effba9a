import { useInfiniteQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { call, type Schema } from "./client";
import { useAbout } from "./hooks";

export type Gap = Schema["Gap"];
type Page<T> = {
  items: T[];
  next?: string;
  searched?: string;
  unreadable?: number;
  missing?: string[];
  copied?: Schema["Copied"][];
};

/** How many records are asked for at a time, and at least looked for before a search stops by itself. */
const pageSize = 100;

/** A live stream of one kind of event. Stale tells that nothing, not even a sign of life, came for a while. */
export function useStream<T>(
  path: string,
  name: string,
  query: string,
  on: boolean,
  each: (one: T) => void,
  missed: (gap: Gap) => void,
) {
  const [stale, setStale] = useState(false);
  const latest = useRef({ each, missed });
  latest.current = { each, missed };
  useEffect(() => {
    if (!on) return;
    let last = Date.now();
    const source = new EventSource(`/api/v1/${path}?${query}`);
    const alive = () => {
      last = Date.now();
      setStale(false);
    };
    source.addEventListener("beat", alive);
    source.addEventListener(name, (e) => {
      alive();
      latest.current.each(JSON.parse(e.data));
    });
    source.addEventListener("gap", (e) => latest.current.missed(JSON.parse(e.data)));
    const timer = setInterval(() => setStale(Date.now() - last > 12000), 2000);
    return () => {
      clearInterval(timer);
      source.close();
    };
  }, [path, name, query, on]);
  return stale;
}

/** A list of records that is filtered by the address of the page and goes on by itself. */
export function useRecords<T extends { id: string }>(path: string, event: string, keys: readonly string[]) {
  const [params, setParams] = useSearchParams();
  const [live, setLive] = useState(true);
  const [fresh, setFresh] = useState<T[]>([]);
  const [gap, setGap] = useState<Gap>();
  // what this node records comes as a stream, what others do is asked for again and again
  const several = !!useAbout().data?.node && path !== "audit";
  const on = live && !params.get("until");
  const query = useMemo(() => {
    const out = new URLSearchParams();
    for (const key of [...keys, "since", "until"]) if (params.get(key)) out.set(key, params.get(key)!);
    return out.toString();
  }, [params, keys]);
  const list = useInfiniteQuery({
    queryKey: [path, query],
    queryFn: ({ pageParam }) =>
      call<Page<T>>("GET", `/${path}?${query}&limit=${pageSize}${pageParam ? `&before=${pageParam}` : ""}`),
    // pages are compared with those before only where somebody reads them: thousands take longer than a frame
    structuralSharing: false,
    refetchInterval: (q) => several && on && q.state.data?.pages.length === 1 && 2000,
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
  });
  const pages = useMemo(() => list.data?.pages ?? [], [list.data]);
  const searched = pages.at(-1)?.searched;
  let missing = pageSize; // of the page that a search is looking for
  for (const page of pages) missing = page.searched ? missing - page.items.length : pageSize;
  const [stopped, setStopped] = useState(false);
  const searching = Boolean(searched) && missing > 0 && !stopped && list.hasNextPage && !list.isError;
  useEffect(() => {
    if (searching && !list.isFetching) list.fetchNextPage();
  }, [searching, list.isFetching]);
  const stale = useStream<T>(
    `${path}-live`,
    event,
    query,
    on,
    useCallback((one: T) => setFresh((old) => [one, ...old].slice(0, 300)), []),
    (missed) => {
      setGap(missed);
      list.refetch(); // what was left out of the stream is in the list
    },
  );
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setFresh([]);
    setStopped(false);
    setParams(next, { replace: true });
  };
  const pause = () => {
    setLive(!live);
    if (live) return;
    setFresh([]);
    setGap(undefined);
    list.refetch();
  };
  const rows = useMemo(() => {
    const old = pages.flatMap((p) => p.items);
    const known = new Set(old.map((one) => one.id));
    const all = [...fresh.filter((one) => !known.has(one.id)), ...old];
    return several ? all.sort((a, b) => (a.id < b.id ? 1 : -1)) : all;
  }, [pages, fresh, several]);
  return {
    rows,
    list,
    params,
    query,
    /** How far back was searched, where that takes long; whether it goes on by itself; and how to change that. */
    searched,
    searching,
    stop: () => setStopped(true),
    goOn: () => setStopped(false),
    /** Nodes whose records are not in the list, since they did not answer. */
    missing: pages[0]?.missing ?? [],
    copied: pages[0]?.copied ?? [],
    unreadable: pages.reduce((n, page) => n + (page.unreadable ?? 0), 0),
    set,
    clear: () => setParams({}),
    live,
    pause,
    stale,
    gap,
  };
}
