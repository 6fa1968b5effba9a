import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, type Schema } from "../api/client";
import { useMay } from "../api/rights";
import { When } from "./basic";

/** Who changed an object last, and what; with the way to all of it. */
export function ObjectHistory({ kind, object }: { kind: string; object: string }) {
  const may = useMay("read");
  const list = useQuery({
    queryKey: ["audit", "of", kind, object],
    queryFn: () =>
      call<Schema["PageAuditLine"]>("GET", `/audit?limit=5&kind=${kind}&object=${encodeURIComponent(object)}`),
    enabled: may,
  });
  if (!may || !list.data || list.data.items.length === 0) return null;
  return (
    <section className="mt-6 max-w-[860px]" aria-label="Changes">
      <h2 className="mb-1">
        Changes{" "}
        <Link
          className="ml-2 text-[12.5px] font-normal underline"
          to={`/audit?kind=${kind}&object=${encodeURIComponent(object)}`}
        >
          all of them
        </Link>
      </h2>
      <ul className="space-y-0.5 text-[13px]">
        {list.data.items.map((l) => (
          <li key={l.id} className="flex gap-3">
            <When at={l.at} long />
            <b className="w-24 shrink-0 truncate">{l.who || l.how}</b>
            <span className="min-w-0 truncate" title={l.changes.map((c) => `${c.field}: ${c.after}`).join("\n")}>
              {l.changes.length === 1 && l.changes[0].after ? l.changes[0].after : l.what}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
