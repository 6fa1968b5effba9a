import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { call, stream, type Schema } from "../../api/client";
import { useDebounced } from "../../api/hooks";
import { ago, Button, Failure, Notice, Verdict } from "../../ui/basic";

type Directory = Schema["Directory"];
type Run = Schema["ResultsCopy"];

/** The copies of people: made now, searched, and those who lack something or are gone. */
export function Copy({ directory }: { directory: Directory }) {
  const queries = useQueryClient();
  const [q, setQ] = useState("");
  const [only, setOnly] = useState("");
  const [run, setRun] = useState<Run | null>(null);
  const [error, setError] = useState<unknown>(null);
  const stop = useRef<AbortController>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const late = useDebounced(q.trim(), 200);
  const list = useInfiniteQuery({
    queryKey: ["copy", directory.id, late, only],
    queryFn: ({ pageParam }) =>
      call<Schema["Copy"]>(
        "GET",
        `/directories/${directory.id}/copy?limit=50&q=${encodeURIComponent(late)}${only ? `&${only}=true` : ""}${pageParam ? `&after=${pageParam}` : ""}`,
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (before) => before,
    retry: false,
  });
  const copy = async () => {
    stop.current?.abort();
    const mine = (stop.current = new AbortController());
    setError(null);
    try {
      await stream(`/directories/${directory.id}/copy`, {}, mine.signal, (_, data) => setRun(data as Run));
    } catch (e) {
      if (!mine.signal.aborted) setError(e);
    }
    setRun(null);
    await queries.invalidateQueries({ queryKey: ["copy"] });
  };
  const last = list.data?.pages[0]?.run;
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const running = run && !run.ended;
  return (
    <section aria-label="Copy of people">
      <p className="mb-3 text-soft">
        Selected people are copied to prepare lists and enrolment. Decisions never use a copy: everyone who signs in is
        looked up in the directory. Choose what is copied under further settings.
      </p>
      <Failure error={error ?? list.error} />
      <div className="mb-3 flex items-center gap-3">
        {running ? (
          <Button onClick={() => stop.current?.abort()}>Stop</Button>
        ) : (
          <Button primary onClick={copy}>
            Copy now
          </Button>
        )}
        <span role="status" className="text-[13px]">
          {running
            ? `${run.read.toLocaleString()} read, below ${run.below}`
            : last
              ? `${last.read.toLocaleString()} copied ${ago(last.started)}; ${last.missing} lack something, ${last.gone} gone since the run before`
              : "No copy was made yet."}
        </span>
      </div>
      {!running && last?.problem && (
        <div className="mb-3">
          <Notice tone="out">
            <b>The last run failed.</b> {last.problem}
          </Notice>
        </div>
      )}
      <div className="mb-2 flex items-center gap-3">
        <input
          type="search"
          aria-label="Search the copies"
          placeholder="Part of a name or attribute"
          className="field max-w-72"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        {[
          ["", "All"],
          ["missing", "Missing an attribute"],
          ["gone", "Gone"],
        ].map(([value, label]) => (
          <button
            key={value}
            type="button"
            aria-pressed={only === value}
            className={`text-[13px] ${only === value ? "border-b-2 border-brass font-semibold" : "text-soft"}`}
            onClick={() => setOnly(value)}
          >
            {label}
          </button>
        ))}
      </div>
      <table className="grid-table">
        <thead>
          <tr>
            <th>Name</th>
            <th>Called</th>
            <th>State</th>
            <th>Lacks</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((p) => (
            <tr key={p.id}>
              <td className="font-semibold">{p.name}</td>
              <td>{p.display}</td>
              <td>
                {p.gone ? (
                  <Verdict kind="out">gone</Verdict>
                ) : p.state === "ok" ? (
                  <Verdict kind="in">may sign in</Verdict>
                ) : (
                  <Verdict kind="out">{p.state}</Verdict>
                )}
              </td>
              <td className="mono text-[12px]">{p.missing}</td>
            </tr>
          ))}
          {rows.length === 0 && list.data && (
            <tr>
              <td colSpan={4} className="text-soft">
                Nobody.
              </td>
            </tr>
          )}
        </tbody>
      </table>
      {list.hasNextPage && (
        <Button className="mt-2" onClick={() => list.fetchNextPage()}>
          Show more
        </Button>
      )}
    </section>
  );
}
