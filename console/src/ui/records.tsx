import type { ReactNode } from "react";
import type { Schema } from "../api/client";
import type { Gap } from "../api/records";
import { Button, Empty, Failure, Notice, When } from "./basic";

/** A moment as the field for it wants it: local time without zone. */
const local = (iso: string | null) =>
  iso ? new Date(new Date(iso).getTime() - new Date(iso).getTimezoneOffset() * 60_000).toISOString().slice(0, 16) : "";

const clock = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hour12: false,
});

/** How live a list of records is. */
export function Liveness({ of }: { of: { live: boolean; stale: boolean; gap?: Gap } }) {
  if (!of.live) return "paused";
  if (of.stale) return <b className="text-out">stale: nothing came for a while</b>;
  if (!of.gap) return "live";
  return (
    <span title="Too many came at once to show each as it came. The list was read again.">
      live; some between {clock.format(new Date(of.gap.since))} and {clock.format(new Date(of.gap.until))} came in one
      go
    </span>
  );
}

/** Text fields that filter a list; each takes effect with Enter, or when it is left. */
export function TextFilters({
  of: { params, set },
  texts,
  wide = [],
  disabled = [],
}: {
  of: { params: URLSearchParams; set: (key: string, value: string) => void };
  texts: Record<string, string>;
  wide?: string[];
  disabled?: string[];
}) {
  return Object.entries(texts).map(([key, label]) => (
    <input
      key={key + (params.get(key) ?? "")}
      aria-label={label}
      placeholder={label}
      defaultValue={params.get(key) ?? ""}
      disabled={disabled.includes(key)}
      className={`field text-[13px] ${wide.includes(key) ? "col-span-2" : ""}`}
      onKeyDown={(e) => e.key === "Enter" && set(key, e.currentTarget.value)}
      onBlur={(e) => e.currentTarget.value !== (params.get(key) ?? "") && set(key, e.currentTarget.value)}
    />
  ));
}

/** What the filters select, as files. */
export function Export({ path, query }: { path: string; query: string }) {
  return Object.entries({ csv: "CSV", jsonl: "JSON lines" }).map(([format, title]) => (
    <a
      key={format}
      className="inline-block rounded border border-hair bg-sheet px-[11px] py-[3px] text-[13px] font-semibold hover:border-soft"
      href={`/api/v1/${path}?${query}&format=${format}`}
      download
    >
      {title}
    </a>
  ));
}

/** From and until. */
export function TimeFilters({
  of: { params, set },
}: {
  of: { params: URLSearchParams; set: (key: string, value: string) => void };
}) {
  return Object.entries({ since: "From", until: "Until" }).map(([key, label]) => (
    <input
      key={key}
      type="datetime-local"
      aria-label={label}
      title={label}
      value={local(params.get(key))}
      className="field col-span-2 text-[13px]"
      onChange={(e) => set(key, e.target.value ? new Date(e.target.value).toISOString() : "")}
    />
  ));
}

/** The filters over a list of records: text fields, from and until, and what else is given. */
export function Filters({
  of,
  texts,
  wide = [],
  children,
}: {
  of: { params: URLSearchParams; set: (key: string, value: string) => void };
  texts: Record<string, string>;
  wide?: string[];
  children: ReactNode;
}) {
  const { params, set } = of;
  return (
    <div className="mb-3 grid grid-cols-4 gap-2 lg:grid-cols-12">
      <TextFilters of={of} texts={texts} wide={wide} />
      <TimeFilters of={of} />
      {children}
      <select
        aria-label="Verdict"
        value={params.get("verdict") ?? ""}
        onChange={(e) => set("verdict", e.target.value)}
        className="field col-span-2 text-[13px]"
      >
        <option value="">Any verdict</option>
        <option value="admitted">admitted</option>
        <option value="refused">refused</option>
      </select>
    </div>
  );
}

type Listed = {
  list: {
    data?: unknown;
    error: unknown;
    hasNextPage: boolean;
    isFetchingNextPage: boolean;
    fetchNextPage: () => void;
  };
  rows: unknown[];
  query: string;
  searched?: string;
  searching: boolean;
  stop: () => void;
  goOn: () => void;
  unreadable: number;
  missing: string[];
  copied: Schema["Copied"][];
  clear: () => void;
};

/** How far a search came that takes long. */
function Searched({ of }: { of: Listed }) {
  if (!of.searched) return null;
  return (
    <p role="status" className="mt-3 flex items-center gap-3 text-soft">
      <span>
        {of.searching ? "Searching; so far back to" : "Searched back to"} <When at={of.searched} long />
      </span>
      {of.searching ? (
        <Button onClick={of.stop}>Stop</Button>
      ) : (
        <Button
          onClick={() => {
            of.goOn();
            of.list.fetchNextPage();
          }}
        >
          Go on
        </Button>
      )}
    </p>
  );
}

/** What became of the records of nodes that do not answer. */
export function Elsewhere({ missing = [], copied = [] }: { missing?: string[]; copied?: Schema["Copied"][] }) {
  return (
    <>
      {missing.length > 0 && (
        <Notice tone="warn">
          What {missing.join(" and ")} recorded is not in this list: {missing.length === 1 ? "it does" : "they do"} not
          answer.
        </Notice>
      )}
      {copied.map((one) => (
        <Notice key={one.node} tone="warn">
          {one.node} {one.removed ? "was removed" : "does not answer"}. What it recorded
          {one.until && (
            <>
              {" "}
              until <When at={one.until} long />
            </>
          )}{" "}
          is in this list, from the copy that another node has.
        </Notice>
      ))}
    </>
  );
}

/** The table of a list of records, or what stands in its place, and the way to older ones. */
export function RecordTable({
  of,
  title,
  none,
  head,
  children,
}: {
  of: Listed;
  title: string;
  none: string;
  head: ReactNode;
  children: ReactNode;
}) {
  const { list, rows, query, clear } = of;
  const over = list.data && rows.length === 0;
  return (
    <>
      <Failure error={list.error} />
      <Elsewhere missing={of.missing} copied={of.copied} />
      {of.unreadable > 0 && (
        <Notice tone="out">
          {of.unreadable.toLocaleString()} records are left out: the file is damaged where they are. Check the disk; a
          backup may have them.
        </Notice>
      )}
      {over && of.searched ? null : over ? (
        <Empty title={title}>
          {query ? (
            <button className="underline" onClick={clear}>
              Clear filters
            </button>
          ) : (
            none
          )}
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>{head}</tr>
          </thead>
          <tbody>{children}</tbody>
        </table>
      )}
      <Searched of={of} />
      {list.hasNextPage && !of.searched && (
        <Button className="mt-3" disabled={list.isFetchingNextPage} onClick={() => list.fetchNextPage()}>
          Older
        </Button>
      )}
    </>
  );
}
