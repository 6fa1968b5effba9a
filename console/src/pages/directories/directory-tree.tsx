import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { Button, Failure } from "../../ui/basic";

type Directory = Schema["Directory"];
type Entry = Schema["ResultsEntry"];

/** Browses the tree of a directory, level by level. */
export function Tree({ directory }: { directory: Directory }) {
  const [shown, setShown] = useState("");
  const details = useQuery({
    queryKey: ["entry", directory.id, shown],
    queryFn: () =>
      call<Schema["ResultsDetails"]>("GET", `/directories/${directory.id}/entry?dn=${encodeURIComponent(shown)}`),
    enabled: shown !== "",
  });
  return (
    <section aria-label="Browse" className="space-y-4">
      <div
        className="max-h-[380px] overflow-auto border-b border-hair pb-3 text-[13px]"
        tabIndex={0}
        role="region"
        aria-label="Tree"
      >
        <Level directory={directory} dn="" show={setShown} shown={shown} />
      </div>
      <div className="min-w-0">
        {shown === "" && <p className="text-soft">Select an entry to see its attributes.</p>}
        <Failure error={details.error} />
        {details.data && (
          <>
            <div className="mono mb-2 font-semibold break-words">{details.data.dn}</div>
            <dl className="text-[12.5px]">
              {details.data.attributes.map((a) => (
                <div key={a.name} className="border-b border-hair py-1">
                  <dt className="text-soft">{a.name}</dt>
                  <dd className="mono break-words">
                    {a.values.slice(0, 8).join(", ")}
                    {a.values.length > 8 && ` and ${a.values.length - 8} more`}
                  </dd>
                </div>
              ))}
            </dl>
          </>
        )}
      </div>
    </section>
  );
}

function Level({
  directory,
  dn,
  show,
  shown,
}: {
  directory: Directory;
  dn: string;
  show: (dn: string) => void;
  shown: string;
}) {
  const list = useInfiniteQuery({
    queryKey: ["tree", directory.id, dn],
    queryFn: ({ pageParam }) =>
      call<Schema["Entries"]>(
        "GET",
        `/directories/${directory.id}/tree?dn=${encodeURIComponent(dn)}&limit=${pageParam}`,
      ),
    initialPageParam: 100,
    getNextPageParam: (last, _, limit) => (last.more && limit < 1000 ? 1000 : undefined),
  });
  const page = list.data?.pages.at(-1);
  return (
    <>
      <Failure error={list.error} />
      {list.isPending && <div className="text-soft">...</div>}
      <ul className={dn ? "ml-4 border-l border-hair pl-2" : ""}>
        {page?.items.map((e) => (
          <Node key={e.dn} directory={directory} entry={e} show={show} shown={shown} />
        ))}
        {page?.items.length === 0 && <li className="text-soft">empty</li>}
      </ul>
      {page?.more &&
        (list.hasNextPage ? (
          <Button onClick={() => list.fetchNextPage()}>Show more</Button>
        ) : (
          <div className="text-soft">and more; the directory shows no more at once</div>
        ))}
    </>
  );
}

function Node({
  directory,
  entry: e,
  show,
  shown,
}: {
  directory: Directory;
  entry: Entry;
  show: (dn: string) => void;
  shown: string;
}) {
  const [open, setOpen] = useState(false);
  return (
    <li>
      <div className="flex items-center gap-1 py-px">
        <button
          type="button"
          aria-label={`${open ? "Close" : "Open"} ${e.name}`}
          aria-expanded={open}
          disabled={e.leaf}
          className="w-5 text-soft disabled:opacity-0"
          onClick={() => setOpen(!open)}
        >
          {open ? "▾" : "▸"}
        </button>
        <button
          type="button"
          className={`truncate text-left hover:underline ${shown === e.dn ? "font-semibold" : ""}`}
          onClick={() => show(e.dn)}
        >
          {e.name}
        </button>
        <span className="text-[11.5px] whitespace-nowrap text-soft">{e.kind}</span>
      </div>
      {open && <Level directory={directory} dn={e.dn} show={show} shown={shown} />}
    </li>
  );
}
