import { keepPreviousData, useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Button, Empty, Failure, PageHead, When } from "../../ui/basic";
import { NumberField, TextField } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { TextFilters } from "../../ui/records";
import { addressPage, personPage } from "./list";

type Sighting = Schema["Sighting"];
type Page = { items: Sighting[]; next?: string };
const texts: Record<string, string> = { who: "Name", address: "Address", mac: "MAC", source: "Source" };

export const kinds: Record<string, string> = {
  "signed-in": "signed in",
  still: "still there",
  "signed-out": "left",
  leased: "address leased",
  released: "address given back",
};

/** What was reported of who is where. */
export function SightingsPage() {
  const [params, setParams] = useSearchParams();
  const query = new URLSearchParams();
  for (const key of [...Object.keys(texts), "kind"]) if (params.get(key)) query.set(key, params.get(key)!);
  const list = useInfiniteQuery({
    queryKey: ["sightings", query.toString()],
    queryFn: ({ pageParam }) =>
      call<Page>("GET", `/presence/sightings?${query}&limit=100${pageParam ? `&before=${pageParam}` : ""}`),
    initialPageParam: "",
    getNextPageParam: (page) => page.next || undefined,
    refetchInterval: 3000,
    placeholderData: keepPreviousData,
  });
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  return (
    <>
      <PageHead title="Sightings" lead="what sources reported, the newest first">
        <Button needs="assist" onClick={() => set("report", "1")}>
          Report by hand
        </Button>
      </PageHead>
      <div className="mb-3 grid grid-cols-5 gap-2">
        <TextFilters of={{ params, set }} texts={texts} />
        <select
          aria-label="Kind"
          value={params.get("kind") ?? ""}
          onChange={(e) => set("kind", e.target.value)}
          className="field text-[13px]"
        >
          <option value="">Any kind</option>
          {Object.entries(kinds).map(([kind, label]) => (
            <option key={kind} value={kind}>
              {label}
            </option>
          ))}
        </select>
      </div>
      <Failure error={list.error} />
      {list.data && rows.length === 0 ? (
        <Empty title="Nothing was reported">Sessions are, as soon as clients send accounting.</Empty>
      ) : (
        <SightingTable items={rows} />
      )}
      {list.hasNextPage && (
        <Button className="mt-3" disabled={list.isFetchingNextPage} onClick={() => list.fetchNextPage()}>
          Older
        </Button>
      )}
      <Report open={params.get("report") === "1"} onClose={() => set("report", "")} />
    </>
  );
}

export function SightingTable({ items }: { items: Sighting[] }) {
  return (
    <table className="grid-table">
      <thead>
        <tr>
          <th>Time</th>
          <th>What</th>
          <th>Person</th>
          <th>Address</th>
          <th>Device</th>
          <th>Source</th>
          <th className="!pr-0">What it said</th>
        </tr>
      </thead>
      <tbody>
        {items.map((s) => (
          <tr key={s.id}>
            <td>
              <When at={s.at} />
            </td>
            <td className="whitespace-nowrap">{kinds[s.kind] ?? s.kind}</td>
            <td>
              {s.who && (
                <Link to={personPage(s.who)} className="font-semibold hover:underline">
                  {s.display || s.who}
                </Link>
              )}
            </td>
            <td className="mono">
              {s.address && (
                <Link to={addressPage(s.address, s.ports)} className="hover:underline">
                  {s.address} {s.ports}
                </Link>
              )}
            </td>
            <td className="mono">{s.host || s.mac}</td>
            <td className="whitespace-nowrap">{s.source}</td>
            <td className="max-w-72 truncate pr-0 text-soft" title={s.detail}>
              {s.detail}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Reports who is where by hand. */
function Report({ open, onClose }: { open: boolean; onClose: () => void }) {
  const blank = { kind: "signed-in", who: "", address: "", ports: "", mac: "", host: "", minutes: 0, why: "" };
  const [form, setForm] = useState(blank);
  const queries = useQueryClient();
  const report = useMutation({
    mutationFn: () => call<Sighting>("POST", "/presence/sightings", form),
    onSuccess: () => {
      queries.invalidateQueries();
      setForm(blank);
      onClose();
    },
  });
  const text = (field: "who" | "address" | "ports" | "mac" | "host" | "why", label: string, hint = "") => (
    <TextField
      label={label}
      field={field}
      hint={hint}
      mono={field !== "why"}
      value={form[field]}
      onChange={(v) => setForm({ ...form, [field]: v })}
      error={report.error}
    />
  );
  return (
    <Modal open={open} onClose={onClose} title="Report who is where" wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          report.mutate();
        }}
      >
        <Failure error={report.error} />
        <Pick
          label="What happened"
          field="kind"
          value={form.kind}
          onChange={(kind) => setForm({ ...form, kind })}
          options={Object.entries(kinds).map(([value, label]) => ({ value, label }))}
        />
        <div className="grid grid-cols-2 gap-x-3">
          {text("who", "Person", "A name as people sign in.")}
          {text("address", "Address")}
          {text("ports", "Ports", "Empty for the whole address; else such as 20000-20999.")}
          {text("mac", "Device", "MAC address, where it is known.")}
          <NumberField
            label="Holds (minutes)"
            field="minutes"
            hint="0 is that of what operators report."
            value={form.minutes}
            onChange={(minutes) => setForm({ ...form, minutes })}
            error={report.error}
          />
          {text("why", "Why", "Kept with it.")}
        </div>
        <Button primary type="submit" needs="assist" disabled={report.isPending}>
          Report
        </Button>
      </form>
    </Modal>
  );
}
