import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Empty, Failure, PageHead, Trail, When } from "../../ui/basic";
import { addressPage } from "./list";
import { SightingTable } from "./sightings";

type Person = Schema["PresencePerson"];
type Stay = Schema["PresenceStay"];

const spans: Record<string, number> = { "1": 1, "4": 4, "12": 12, "24": 24, "168": 168 };

/** Where one person is, and a strip of where the person was. */
export function PersonPage() {
  const { name = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const hours = spans[params.get("hours") ?? ""] ?? 12;
  const person = useQuery({
    queryKey: ["presence", "person", name, hours],
    queryFn: () =>
      call<Person>(
        "GET",
        `/presence/people/${encodeURIComponent(name)}?since=${encodeURIComponent(
          new Date(Date.now() - hours * 3_600_000).toISOString(),
        )}`,
      ),
    refetchInterval: 3000,
  });
  const p = person.data;
  return (
    <>
      <Trail to="/presence" of="Presence">
        {name}
      </Trail>
      <PageHead title={p?.display || name} lead={p && <Lead p={p} />}>
        <select
          aria-label="How far back"
          className="field !w-auto text-[13px]"
          value={String(hours)}
          onChange={(e) => setParams({ hours: e.target.value }, { replace: true })}
        >
          <option value="1">the last hour</option>
          <option value="4">the last 4 hours</option>
          <option value="12">the last 12 hours</option>
          <option value="24">the last day</option>
          <option value="168">the last week</option>
        </select>
      </PageHead>
      <Failure error={person.error} />
      {p && p.stays.length === 0 && (
        <Empty title="Nothing was reported in this time">Choose a longer one, or look at the sources.</Empty>
      )}
      {p && p.stays.length > 0 && <Strip p={p} />}
      {p && p.conflicts.length > 0 && (
        <div className="mb-5 text-[13px]">
          <h2 className="mb-1">Conflicts</h2>
          {p.conflicts.map((c, i) => (
            <div key={i} className="text-wait">
              <Link to={addressPage(c.address)} className="mono hover:underline">
                {c.address}
              </Link>{" "}
              is also claimed for <b>{c.who}</b> by {c.source}, and {c.says}
            </div>
          ))}
        </div>
      )}
      {p && p.sightings.length > 0 && (
        <>
          <h2 className="mb-1">Sightings, the newest first</h2>
          <SightingTable items={p.sightings} />
        </>
      )}
    </>
  );
}

function Lead({ p }: { p: Person }) {
  return (
    <>
      {[p.groups.join(", "), p.role && `role ${p.role}`].filter(Boolean).join(" · ")}
      {p.here.map((h) => (
        <Fragment key={h.address + h.ports}>
          {" "}
          · at{" "}
          <Link to={addressPage(h.address, h.ports)} className="font-semibold text-ink hover:underline">
            {h.address} {h.ports}
          </Link>{" "}
          since <When at={h.since} />
        </Fragment>
      ))}
      {p.here.length === 0 && " · nowhere now"}
    </>
  );
}

/** The stays of each source as bars over time. What overlaps goes into another line. */
function Strip({ p }: { p: Person }) {
  const to = new Date(p.to).getTime();
  // Time before anything was reported is not drawn.
  const first = Math.min(...p.stays.map((s) => new Date(s.from).getTime()));
  const from = Math.max(new Date(p.from).getTime(), first - 0.04 * (to - first) - 5_000);
  const share = (at: string) => (100 * Math.min(Math.max(new Date(at).getTime() - from, 0), to - from)) / (to - from);
  const sources = [...new Set(p.stays.map((s) => s.source))];
  return (
    <div className="relative mb-6 border-b border-hair pb-2" role="img" aria-label={described(p)}>
      <Hours from={from} to={to} />
      <div className="relative space-y-2 pt-6">
        {sources.map((source) =>
          rowsOf(p.stays.filter((s) => s.source === source)).map((row, n) => (
            <div key={source + n} className="grid grid-cols-[120px_1fr] items-start">
              <div className="truncate text-[13px] font-semibold" title={source}>
                {n === 0 && source}
              </div>
              <div className="relative h-[44px]">
                {row.map((s, i) => (
                  <Bar key={i} stay={s} left={share(s.from)} right={share(s.to)} />
                ))}
              </div>
            </div>
          )),
        )}
      </div>
    </div>
  );
}

function Bar({ stay: s, left, right }: { stay: Stay; left: number; right: number }) {
  const text = [s.address || s.mac, s.ports].filter(Boolean).join(" ");
  const about = `${text}: ${new Date(s.from).toLocaleTimeString()} to ${s.open ? "now" : new Date(s.to).toLocaleTimeString()}`;
  // a label that would leave the strip on the right stands before the end of its bar
  const late = left > 60;
  return (
    <div
      className="absolute top-0"
      style={{ left: `${left}%`, width: `${Math.max(right - left, 0.3)}%` }}
      title={about}
    >
      <div className={`h-[22px] border-l-[3px] ${s.open ? "border-in bg-in-bg" : "border-soft bg-nav"}`} />
      <div
        className={`mono absolute top-[3px] px-1.5 text-[12px] whitespace-nowrap ${late ? "right-0 text-right" : "left-0"}`}
      >
        {text}
      </div>
      <div
        className={`absolute top-[24px] px-1.5 text-[11.5px] whitespace-nowrap text-soft ${late ? "right-0 text-right" : "left-0"}`}
      >
        {[s.detail, s.host].filter(Boolean).join(", ")}
      </div>
    </div>
  );
}

/** Puts stays into as few lines as they need without overlapping; a label needs some room. */
function rowsOf(list: Stay[]): Stay[][] {
  const rows: Stay[][] = [];
  for (const s of list) {
    const row = rows.find((r) => new Date(r[r.length - 1].to) <= new Date(s.from));
    if (row) row.push(s);
    else rows.push([s]);
  }
  return rows;
}

/** Few enough marks for the labels on a phone. A label that would leave the strip on the right is not shown. */
function Hours({ from, to }: { from: number; to: number }) {
  const hour = 3_600_000;
  const step =
    [hour / 60, hour / 12, hour / 4, hour / 2, hour, 2 * hour, 4 * hour, 24 * hour].find((s) => (to - from) / s <= 6) ??
    24 * hour;
  const marks: number[] = [];
  const zone = new Date(from).getTimezoneOffset() * 60_000;
  for (let at = Math.ceil((from - zone) / step) * step + zone; at < to; at += step) marks.push(at);
  return (
    <div className="absolute inset-y-0 right-0 left-[120px]" aria-hidden="true">
      {marks.map((at) => {
        const left = (100 * (at - from)) / (to - from);
        return (
          <div
            key={at}
            className="absolute inset-y-0 border-l border-hair text-[11.5px] text-soft"
            style={{ left: `${left}%` }}
          >
            <span className={`pl-1 ${left > 95 ? "hidden" : left > 80 ? "max-md:hidden" : ""}`}>
              {new Date(at).toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit", hour12: false })}
            </span>
          </div>
        );
      })}
      <div className="absolute inset-y-0 right-0 border-r-2 border-brass" />
    </div>
  );
}

const described = (p: Person) =>
  p.stays
    .map(
      (s) =>
        `${s.source}: ${s.address || s.mac} from ${new Date(s.from).toLocaleTimeString()} to ${s.open ? "now" : new Date(s.to).toLocaleTimeString()}`,
    )
    .join("; ");
