import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Empty, Failure, PageHead, PassChip, sentence, Trail, Verdict, When } from "../../ui/basic";
import { MomentField } from "../../ui/moment";
import { personPage } from "./list";

type Answer = Schema["PresenceAnswer"];

/** Who is at an address, or was, and why: every claim with what becomes of it. */
export function WhoPage() {
  const [params, setParams] = useSearchParams();
  const address = params.get("address") ?? "";
  const port = params.get("port") ?? "";
  const at = params.get("at") ?? "";
  const answer = useQuery({
    queryKey: ["presence", "who", address, port, at],
    queryFn: () =>
      call<Answer>(
        "GET",
        `/presence/who?address=${encodeURIComponent(address)}&port=${port || 0}${at ? `&at=${encodeURIComponent(at)}` : ""}`,
      ),
    enabled: !!address,
    refetchInterval: at ? false : 2000,
  });
  const set = (key: string, value: string | undefined) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  const a = answer.data;
  return (
    <>
      <Trail to="/presence" of="Presence">
        {address}
        {port && ` port ${port}`}
      </Trail>
      <PageHead title={address || "An address"} lead={at ? "as it was then" : a && "now · live"} />
      <div className="mb-2 grid max-w-[640px] grid-cols-3 gap-3">
        <Typed key={"a" + address} label="Address" value={address} onEnter={(v) => set("address", v)} />
        <Typed key={"p" + port} label="Port" value={port} onEnter={(v) => set("port", v)} />
        <MomentField label="At" field="at" value={at || undefined} onChange={(v) => set("at", v)} />
      </div>
      <Failure error={answer.error} />
      {!address && <Empty title="Which address?">Type one, with a port where several people share it.</Empty>}
      {a && (
        <>
          <div className="mb-4 border-y border-hair py-3">
            <Verdict kind={a.here ? "in" : "wait"}>{sentence(a.says)}</Verdict>
            {a.here && (
              <div className="mt-1 flex flex-wrap items-baseline gap-x-4 text-[13px]">
                <Link to={personPage(a.here.who)} className="font-semibold hover:underline">
                  {a.here.who}
                </Link>
                <span>{a.here.groups.join(", ")}</span>
                {a.here.role && <PassChip name={a.here.role} />}
                <span className="mono text-soft">
                  {a.here.host} {a.here.mac} {a.here.kind}
                </span>
                <span className="text-soft">
                  without another word until <When at={a.here.until} long />
                </span>
              </div>
            )}
            {a.lease && (
              <div className="mt-1 text-[13px] text-soft">
                Leased to <span className="mono">{a.lease.mac}</span> since <When at={a.lease.since} long />
                {a.lease.over ? ", over since " : " until "}
                <When at={a.lease.until} long />
              </div>
            )}
            {a.leftOut && <div className="mt-1 text-[13px] text-soft">Left out by: {a.leftOut}</div>}
          </div>
          {a.standings.length > 0 && (
            <table className="grid-table">
              <thead>
                <tr>
                  <th>Claim</th>
                  <th>Ports</th>
                  <th>Source</th>
                  <th>Trust</th>
                  <th>Signed in</th>
                  <th>Last word</th>
                  <th>What becomes of it</th>
                </tr>
              </thead>
              <tbody>
                {a.standings.map((s, i) => (
                  <tr key={i} className={s.counts ? "" : "text-soft"}>
                    <td className="font-semibold">{s.display || s.who}</td>
                    <td className="mono">{s.ports}</td>
                    <td>{s.source}</td>
                    <td>{s.trust}</td>
                    <td>
                      <When at={s.signed} />
                    </td>
                    <td>
                      <When at={s.last} />
                    </td>
                    <td>{s.outcome === "holds" ? <Verdict kind="in">{s.says}</Verdict> : s.says}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <p className="mt-3 text-[13px]">
            <Link className="underline" to={`/sightings?address=${encodeURIComponent(a.address)}`}>
              What was reported of this address
            </Link>
          </p>
        </>
      )}
    </>
  );
}

function Typed({ label, value, onEnter }: { label: string; value: string; onEnter: (v: string) => void }) {
  return (
    <div>
      <label className="label" htmlFor={"who-" + label}>
        {label}
      </label>
      <input
        id={"who-" + label}
        className="field mono"
        defaultValue={value}
        autoComplete="off"
        onKeyDown={(e) => e.key === "Enter" && onEnter(e.currentTarget.value.trim())}
        onBlur={(e) => e.currentTarget.value.trim() !== value && onEnter(e.currentTarget.value.trim())}
      />
    </div>
  );
}
