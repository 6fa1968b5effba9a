import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { api, call, Refused, type Schema } from "./client";

export type ObjectOf = {
  clients: Schema["Client"];
  directories: Schema["Directory"];
  realms: Schema["Realm"];
  lanes: Schema["Lane"];
  passes: Schema["Pass"];
  authorities: Schema["Authority"];
  certificates: Schema["ServerCertificate"];
  trusts: Schema["Trust"];
  calendars: Schema["Calendar"];
  pools: Schema["Pool"];
  remotes: Schema["Remote"];
  vendors: Schema["Vendor"];
  overrides: Schema["Override"];
  expectations: Schema["Expectation"];
  "command-lists": Schema["CommandList"];
  feeds: Schema["Feed"];
  sources: Schema["Source"];
  scopes: Schema["Scope"];
  subscribers: Schema["Subscriber"];
  "device-kinds": Schema["DeviceKind"];
};
export type Kind = keyof ObjectOf;
type Saved<K extends Kind> = { object: ObjectOf[K]; secret?: string };

export const useAbout = () => useQuery({ queryKey: ["about"], queryFn: async () => (await api.GET("/about")).data! });
const useRight = (right: string) => useAbout().data?.rights?.includes(right) ?? false;
export const useDraft = () =>
  useQuery({
    queryKey: ["draft"],
    queryFn: async () => (await api.GET("/draft")).data!,
    enabled: useRight("read"),
  });
export const useNow = () =>
  useQuery({
    queryKey: ["now"],
    queryFn: async () => (await api.GET("/now")).data!,
    refetchInterval: 3000,
    enabled: useRight("watch"),
  });

/** The last rehearsal; null if there was none. */
export const useRehearsal = () =>
  useQuery({
    queryKey: ["rehearsal"],
    queryFn: () =>
      call<Schema["Rehearsal"]>("GET", "/rehearsal").catch((e) => {
        if (e instanceof Refused && e.status === 404) return null;
        throw e;
      }),
  });

/** What the analysis found in the draft, and how often each running policy decided. */
export const useAnalysis = () =>
  useQuery({ queryKey: ["analysis"], queryFn: () => call<Schema["Analysis"]>("GET", "/draft/analysis") });
export const useHits = () =>
  useQuery({ queryKey: ["hits"], queryFn: () => call<Schema["AllHits"]>("GET", "/hits"), refetchInterval: 10_000 });

/** Every way to prove an identity, with what weak ones expose. */
export const useMethods = () =>
  useQuery({
    queryKey: ["methods"],
    queryFn: () => call<{ items: Schema["ConfigMethod"][] }>("GET", "/methods"),
    staleTime: Infinity,
  });

type Objects<K extends Kind> = { items: ObjectOf[K][]; next?: string };

/** Objects of a kind, a thousand at most; next is set where there are more, which a search finds. */
export function useObjects<K extends Kind>(kind: K, q = "", refresh: number | false = false) {
  return useQuery({
    queryKey: [kind, q],
    queryFn: () => call<Objects<K>>("GET", `/${kind}?limit=1000&q=${encodeURIComponent(q)}`),
    refetchInterval: refresh,
    enabled: useRight("read"),
    placeholderData: (before) => before,
  });
}

/** The objects of a kind, page by page: however many there are, none is left out in silence. */
export function useObjectPages<K extends Kind>(kind: K, q: string, refresh: number) {
  const list = useInfiniteQuery({
    queryKey: [kind, "pages", q],
    queryFn: ({ pageParam }) =>
      call<Objects<K>>("GET", `/${kind}?limit=200&q=${encodeURIComponent(q)}${pageParam && `&after=${pageParam}`}`),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
    refetchInterval: refresh,
    enabled: useRight("read"),
    placeholderData: (before) => before,
  });
  return {
    items: list.data?.pages.flatMap((p) => p.items),
    error: list.error,
    more: list.hasNextPage ? () => list.fetchNextPage() : undefined,
    loading: list.isFetchingNextPage,
  };
}

export function useObject<K extends Kind>(kind: K, id: string, refresh: number | false = false) {
  return useQuery({
    queryKey: [kind, "one", id],
    queryFn: () => call<ObjectOf[K]>("GET", `/${kind}/${encodeURIComponent(id)}`),
    enabled: id !== "new",
    refetchInterval: refresh,
    gcTime: 0,
  });
}

/** Saves an object into the draft, or publishes it at once. */
export function useSave<K extends Kind>(kind: K) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ id, tag, body }: { id?: string; tag?: string; body: unknown }) =>
      id
        ? call<Saved<K>>("PUT", `/${kind}/${id}`, body, { "If-Match": tag ?? "" })
        : call<Saved<K>>("POST", `/${kind}`, body),
    onSettled: () => queries.invalidateQueries(),
  });
}

export function useRemove(kind: Kind) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ id, tag }: { id: string; tag: string }) =>
      call("DELETE", `/${kind}/${id}`, undefined, { "If-Match": tag }),
    onSettled: () => queries.invalidateQueries(),
  });
}

/** The text of a search, which is part of the address: it is there again after a look into a row. */
export function useQueryText(): [string, (q: string) => void] {
  const [params, setParams] = useSearchParams();
  const set = (q: string) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (q) next.set("q", q);
        else next.delete("q");
        return next;
      },
      { replace: true },
    );
  return [params.get("q") ?? "", set];
}

export function useDebounced<T>(value: T, ms = 250): T {
  const [late, setLate] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setLate(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return late;
}
