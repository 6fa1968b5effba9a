import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { useDebounced } from "../../api/hooks";
import { Button, Failure, PassChip, Verdict } from "../../ui/basic";
import type { Retagged } from "../../ui/editor";

type Directory = Schema["Directory"];

const at = (d: Directory) => `/directories/${d.id}`;

/** Picks the few groups that matter out of thousands. They are kept by what identifies them, and follow renames. */
export function Groups({ directory, changed }: { directory: Directory; changed: (tag: Retagged) => void }) {
  const queries = useQueryClient();
  const [q, setQ] = useState("");
  const late = useDebounced(q.trim(), 200);
  const list = useInfiniteQuery({
    queryKey: ["directory-groups", directory.id, late, directory.groups.length],
    queryFn: ({ pageParam }) =>
      call<Schema["Groups"]>(
        "GET",
        `${at(directory)}/groups?limit=50&q=${encodeURIComponent(late)}${pageParam ? `&after=${pageParam}` : ""}`,
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (before) => before,
  });
  const picked = useQuery({
    queryKey: ["directory-picked", directory.id, directory.groups.map((g) => g.id + g.name)],
    queryFn: () => call<Schema["Picked"]>("GET", `${at(directory)}/picked`),
    enabled: directory.groups.length > 0,
  });
  // What is picked and the tag of the object reach the form together. A form that had read an older object than the one
  // that is changed here keeps its tag: saving it says then that somebody else changed the object.
  const change = useMutation({
    mutationFn: async (make: (before: Directory) => Promise<unknown>) => {
      const before = await call<Directory>("GET", at(directory));
      await make(before);
      const after = await call<Directory>("GET", at(directory));
      queries.setQueryData(["directories", "one", directory.id], after);
      changed({ from: before.tag, to: after.tag });
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const pick = (id: string) => change.mutate(() => call("POST", `${at(directory)}/pick`, { id }));
  const unpick = (id: string) =>
    change.mutate((before) =>
      call(
        "PUT",
        at(directory),
        { ...fields(before), groups: before.groups.filter((g) => g.id !== id) },
        { "If-Match": before.tag },
      ),
    );
  const forget = useMutation({
    mutationFn: () => call<Schema["Forgotten"]>("POST", `${at(directory)}/forget`, {}),
    onSuccess: () => queries.invalidateQueries(),
  });
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const first = list.data?.pages[0];
  return (
    <section aria-label="Groups">
      <p className="mb-2 text-soft">
        Picked groups are kept by their identifier: policies still match after a group is renamed, and another group
        with the same name does not count.
      </p>
      <Failure error={change.error ?? forget.error ?? picked.error} />
      {directory.groups.length > 0 && (
        <table className="grid-table mb-4">
          <thead>
            <tr>
              <th>Policies call it</th>
              <th>There now</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {directory.groups.map((g) => {
              const now = picked.data?.items.find((p) => p.id === g.id);
              return (
                <tr key={g.id}>
                  <td>
                    <b>{g.name}</b>
                    <div className="mono text-[11.5px] break-all text-soft">{g.id}</div>
                  </td>
                  <td>
                    {!now ? (
                      "..."
                    ) : now.now === "" ? (
                      <Verdict kind="out">gone</Verdict>
                    ) : now.now === g.name ? (
                      "the same"
                    ) : (
                      <>
                        renamed: <b>{now.now}</b>
                      </>
                    )}
                  </td>
                  <td className="w-20 text-right">
                    <Button aria-label={`Unpick ${g.name}`} disabled={change.isPending} onClick={() => unpick(g.id)}>
                      Unpick
                    </Button>
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
      <div className="mb-2 flex items-center gap-3">
        <input
          type="search"
          aria-label="Search the groups"
          placeholder="Any part of a name"
          className="field max-w-72"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <span className="text-[13px] text-soft">
          {first && (first.total >= 0 ? `${first.total.toLocaleString()} groups` : "the list of all is being read")}
        </span>
        <span className="ml-auto flex items-center gap-2">
          {forget.data && (
            <span role="status" className="text-[13px] text-soft">
              {forget.data.people} people dropped from the cache
            </span>
          )}
          <Button
            disabled={forget.isPending}
            title="Cached people and groups are read again."
            onClick={() => forget.mutate()}
          >
            Forget now
          </Button>
        </span>
      </div>
      <Failure error={list.error} />
      <div
        className="max-h-[420px] overflow-y-auto border-y border-hair"
        tabIndex={0}
        role="region"
        aria-label="Groups found"
      >
        <table className="grid-table">
          <tbody>
            {rows.map((g) => (
              <tr key={g.id}>
                <td className="font-semibold">{g.name}</td>
                <td className="mono text-[12px] break-all text-soft">{g.dn}</td>
                <td className="w-24 text-right">
                  {g.picked ? (
                    <PassChip name="picked" />
                  ) : (
                    <Button aria-label={`Pick ${g.name}`} disabled={change.isPending} onClick={() => pick(g.id)}>
                      Pick
                    </Button>
                  )}
                </td>
              </tr>
            ))}
            {list.data && rows.length === 0 && (
              <tr>
                <td className="text-soft">No group name contains this.</td>
              </tr>
            )}
          </tbody>
        </table>
      </div>
      {list.hasNextPage && (
        <Button className="mt-2" disabled={list.isFetching} onClick={() => list.fetchNextPage()}>
          Show more
        </Button>
      )}
    </section>
  );
}

/** What can be edited of a directory, out of what is shown of it. */
function fields(d: Directory) {
  const {
    name,
    kind,
    servers,
    tls,
    ca,
    serverName,
    bindName,
    base,
    groupBase,
    attributes,
    timeoutMillis,
    note,
    groups,
    cacheSeconds,
    dns,
    source,
    guardAfter,
    copyBelow,
    copyWanted,
    copyMinutes,
  } = d;
  return {
    name,
    kind,
    servers,
    tls,
    ca,
    serverName,
    bindName,
    base,
    groupBase,
    attributes,
    timeoutMillis,
    note,
    groups,
    cacheSeconds,
    dns,
    source,
    guardAfter,
    copyBelow,
    copyWanted,
    copyMinutes,
  };
}
