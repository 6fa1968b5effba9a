import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import {
  ago,
  Button,
  ButtonLink,
  Failure,
  millis,
  Notice,
  PageHead,
  PassChip,
  rowKeys,
  sentence,
  Trail,
  Verdict,
  verdictKind,
  When,
} from "../../ui/basic";
import { Road } from "../../ui/road";

type Detail = Schema["AttemptDetail"];

export function AttemptPage() {
  const { id = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const under = params.get("under") === "draft" ? "draft" : "revision";
  const detail = useQuery({
    queryKey: ["attempt", id, under],
    queryFn: () => call<Detail>("GET", `/attempts/${id}?under=${under}`),
  });
  if (!detail.data)
    return (
      <>
        <PageHead title="Attempt" />
        <Failure error={detail.error} />
      </>
    );
  const a = detail.data;
  const t = a.trace;
  const raised = t.verdict === "admitted";
  const decided = t.stations.find((s) => s.state === "decided");
  return (
    <>
      <Trail to="/attempts" of="Attempts">
        {a.id}
      </Trail>
      <PageHead
        title={`${a.person || a.sent || "Nobody"}${a.facts.gear ? ` asked for ${a.where} on ${a.client}` : ` on ${a.where || a.client}`}`}
        lead={
          <span className="flex items-baseline gap-4">
            <Verdict kind={verdictKind(t.verdict)}>{t.verdict}</Verdict>
            <span>
              <When at={a.at} />, {ago(a.at)} · {millis(a.micros)}
            </span>
          </span>
        }
      >
        {t.reason === "factor.not-enrolled" && a.facts.person && (
          <ButtonLink
            primary
            to={`/factors?enrol=${encodeURIComponent(a.facts.person.name)}&store=${encodeURIComponent(a.facts.person.store)}`}
          >
            Enrol {a.person}
          </ButtonLink>
        )}
        <Button needs="read" onClick={() => setParams(under === "draft" ? {} : { under: "draft" })}>
          {under === "draft" ? `As it was, revision ${a.revision}` : "Try again under draft"}
        </Button>
        <ButtonLink to={`/try?attempt=${a.id}`}>Take to Try</ButtonLink>
        <ButtonLink to={`/expectations/new?attempt=${a.id}`}>Expect this</ButtonLink>
        <ButtonLink to={`/attempts?user=${encodeURIComponent(a.user)}`}>Follow {a.user}</ButtonLink>
      </PageHead>
      {under === "draft" && (
        <div className="mb-2">
          <Notice tone="wait">
            The same facts, decided again with the draft. Before, it was <b>{a.verdict}</b> under revision {a.revision}.
          </Notice>
        </div>
      )}
      <Road trace={t} />
      {a.session && (
        <div className="mt-2 text-[13px]">
          {a.session.open ? "Connected now" : "Was connected"}
          {a.session.address && (
            <>
              , address <span className="mono">{a.session.address}</span>
            </>
          )}
          {a.session.vlan && (
            <>
              , VLAN <span className="mono">{a.session.vlan}</span> on the device
              {a.vlan && a.session.vlan !== a.vlan && <b className="text-out"> instead of {a.vlan}</b>}
            </>
          )}
          .{" "}
          <Link className="underline" to={`/sessions/${a.session.id}`}>
            Its session
          </Link>
        </div>
      )}
      <div className="mt-2">
        <Notice tone={raised ? "in" : "out"}>
          <b>{sentence(t.sentence)}</b> <span className="mono text-soft">{t.reason}</span>
          {t.remedy && <div>{t.remedy}</div>}
          {raised && decided?.found && decided.key === "pass" && (
            <div>
              By {decided.found}, instead of {decided.wanted}.
            </div>
          )}
          {!raised && decided && (decided.wanted || decided.found) && (
            <dl className="mono mt-1 grid grid-cols-[76px_1fr]">
              <dt className="text-soft">wanted</dt>
              <dd>{decided.wanted || "-"}</dd>
              <dt className="text-soft">found</dt>
              <dd>{decided.found || "nothing"}</dd>
            </dl>
          )}
        </Notice>
      </div>
      <Touched a={a} />
      <div className="mt-4 grid gap-7 *:min-w-0 lg:grid-cols-[minmax(0,1fr)_340px]">
        <div>
          {t.policies.length > 0 && (
            <Compared
              title={`Policies of lane ${decided?.key === "lane" ? "" : t.stations.find((s) => s.key === "lane")?.value}`}
              rows={t.policies}
              end={raised ? "" : t.reason === "policy.none" ? "End of lane: refused" : ""}
            />
          )}
          {t.reply.length > 0 && (
            <>
              <h2 className="mt-4 mb-1.5">Reply attributes</h2>
              <table className="grid-table">
                <tbody>
                  {t.reply.map((r, i) => (
                    <tr key={i}>
                      <td className="mono w-56">{r.name}</td>
                      <td className="mono break-words">{r.value}</td>
                      <td className="mono break-all text-soft">{r.hex}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </>
          )}
          <Conversation eap={a.facts.eap} />
          <Compared title="Lanes" rows={t.lanes} end={t.reason === "lane.none" ? "End of the lanes: refused" : ""} />
          <Earlier list={a.earlier} />
        </div>
        <Facts a={a} />
      </div>
    </>
  );
}

/** The way to everything that had a part in it. */
function Touched({ a }: { a: Detail }) {
  const person = a.facts.person;
  const named = (kind: string, name: string) => `/${kind}/${encodeURIComponent(name)}`;
  const links: [string, string, string][] = [
    ["client", a.client, named("clients", a.client)],
    ["lane", a.lane, named("lanes", a.lane)],
    ["policy", a.policy, named("lanes", a.lane)],
    ["pass", a.pass, named("passes", a.pass)],
    [
      "person",
      person ? a.person || person.name : "",
      person?.store === "local"
        ? named("people", person.name)
        : `/directories/${encodeURIComponent(person?.store ?? "")}?panel=person&person=${encodeURIComponent(person?.name ?? "")}`,
    ],
  ];
  return (
    <p className="mt-2 flex flex-wrap gap-x-5 text-[13px]">
      {links
        .filter(([, name]) => name)
        .map(([kind, name, to]) => (
          <span key={kind}>
            <span className="text-soft">{kind}</span>{" "}
            <Link className="underline decoration-hair underline-offset-2" to={to}>
              {name}
            </Link>
          </span>
        ))}
    </p>
  );
}

/** What was said in an EAP conversation, round by round. */
function Conversation({ eap }: { eap?: Schema["FactsEAP"] }) {
  if (!eap?.steps?.length) return null;
  return (
    <div className="mt-4 mb-4">
      <h2 className="mb-1">
        The conversation: {eap.rounds} rounds{eap.tls && `, ${eap.tls}${eap.resumed ? ", resumed" : ""}`}
      </h2>
      <table className="grid-table">
        <tbody>
          {eap.steps.map((s, i) => (
            <tr key={i}>
              <td className="mono w-20 text-right text-soft">{(s.micros / 1000).toFixed(1)} ms</td>
              <td className="w-24">{s.from === "peer" ? "device →" : "← server"}</td>
              <td>{s.text}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Compared({ title, rows, end }: { title: string; rows: Schema["ResultsRow"][]; end: string }) {
  if (rows.length === 0) return null;
  return (
    <div className="mt-4 mb-4 first:mt-0">
      <h2 className="mb-1">{title}: what was asked, and what was found</h2>
      <table className="grid-table">
        <thead>
          <tr>
            <th className="w-6" />
            <th className="w-44">Name</th>
            <th>Wanted</th>
            <th>Found</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.number}>
              <td className="text-soft">{r.number}</td>
              <td>
                <b>{r.name}</b>
                {r.fits && <div className="text-in">fits</div>}
                {r.skipped && <div className="text-soft">{r.skipped}</div>}
              </td>
              <td className="mono">
                {r.compared.length ? r.compared.map((c, i) => <div key={i}>{c.wanted}</div>) : r.wanted}
              </td>
              <td className="mono">
                {r.compared.map((c, i) => (
                  <div key={i} className={c.fits ? "text-in" : "text-out"}>
                    {c.found || "nothing"}
                  </div>
                ))}
              </td>
            </tr>
          ))}
          {end && (
            <tr>
              <td />
              <td colSpan={3} className="text-soft">
                {end}
              </td>
            </tr>
          )}
        </tbody>
      </table>
    </div>
  );
}

function Earlier({ list }: { list: Schema["Attempt"][] }) {
  const go = useNavigate();
  if (list.length === 0) return null;
  return (
    <>
      <h2 className="mb-1">The same person before</h2>
      <table className="grid-table">
        <tbody>
          {list.map((a) => (
            <tr key={a.id} {...rowKeys(() => go(`/attempts/${a.id}`))}>
              <td className="w-32">
                <When at={a.at} />
              </td>
              <td>
                <Verdict kind={verdictKind(a.verdict)}>{a.verdict}</Verdict>
              </td>
              <td>{a.where}</td>
              <td className="mono">{a.client}</td>
              <td>
                {a.verdict === "admitted" ? (
                  a.pass ? (
                    <PassChip name={a.pass} />
                  ) : (
                    "granted remotely"
                  )
                ) : (
                  <span className="mono text-out">{a.reason}</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Facts({ a }: { a: Detail }) {
  const f = a.facts;
  const rows: [string, string | undefined][] = [
    ["name as sent", f.sent],
    ["name inside", f.inner],
    ["tried by", f.tried],
    ["person", f.person?.display || f.person?.name],
    ["store", f.person?.store],
    ["groups", f.person?.groups?.join(", ")],
    ["asks for", f.gear?.asks],
    ["command", f.gear?.command],
    ["level", f.gear && String(f.gear.level)],
    ["signed in by", f.gear?.authenticated],
    ["arguments", f.gear?.args?.join(" ")],
    ["comes from", f.from],
    ["method", f.method],
    ["second factor", f.factor && [f.factor.outcome, f.factor.detail].filter(Boolean).join(": ")],
    ["tunnel", f.eap?.tls && `${f.eap.tls}, ${f.eap.suite}`],
    ["server certificate", f.eap?.server],
    ["certificate", f.certificate?.subject],
    ["issued by", f.certificate?.issuer],
    ["serial", f.certificate?.serial],
    ["valid until", f.certificate?.until.slice(0, 10)],
    ["revocation", f.certificate?.revocation],
    ["known device", f.device && `${f.device.name} (${f.device.match})`],
    [
      "device tags",
      f.device &&
        Object.entries(f.device.tags ?? {})
          .map(([k, v]) => `${k}=${v}`)
          .join(", "),
    ],
    ["computer", f.machine?.name],
    ["computer seen", f.machineSeen && `${f.machineSeen.name}, ${ago(f.machineSeen.at)}`],
    ["service", f.service],
    ["ssid", f.ssid],
    ["port type", f.portType],
    ["port", f.port],
    ["MAC", f.mac],
    ["called", f.called],
    ["client", f.client],
    ["client address", f.address],
    ["transport", f.transport ? `over ${f.transport.toUpperCase()}` : ""],
    [
      "tags",
      Object.entries(f.clientTags ?? {})
        .map(([k, v]) => `${k}=${v}`)
        .join(", "),
    ],
    ["nas", f.nas],
    ...Object.entries(f.person?.attributes ?? {}).map(([k, v]): [string, string] => [k, (v ?? []).join(", ")]),
    ...(f.attributes ?? []).map((x): [string, string] => [x.name, x.value]),
    ["revision", a.under === "draft" ? `draft (was ${a.revision})` : String(a.revision)],
  ];
  return (
    <div>
      <h2 className="mb-1">Facts</h2>
      <dl className="grid grid-cols-[112px_minmax(0,1fr)] text-[13px]">
        {rows
          .filter(([, v]) => v)
          .map(([k, v], i) => (
            <Fragment key={i}>
              <dt className="border-b border-hair py-[3.4px] pr-2 [overflow-wrap:anywhere] text-soft">{k}</dt>
              <dd className="mono border-b border-hair py-[3.4px] [overflow-wrap:anywhere]">{v}</dd>
            </Fragment>
          ))}
      </dl>
    </div>
  );
}
