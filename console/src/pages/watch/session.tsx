import { useQuery } from "@tanstack/react-query";
import { Fragment, useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Bar, Button, Failure, Notice, PageHead, PassChip, rowKeys, Trail, Verdict, When } from "../../ui/basic";
import { AskOne } from "./session-ask";
import { amount, lasts } from "./session-format";
import { VLANs } from "./sessions";

type Detail = Schema["SessionDetail"];
type Event = Schema["SessionEvent"];

/** One session with its story: admitted, begun, what became of it, and what its client was asked. */
export function SessionPage() {
  const { id = "" } = useParams();
  const [ask, setAsk] = useState<Schema["SessionAsk"]["action"]>();
  const one = useQuery({
    queryKey: ["session", id],
    queryFn: () => call<Detail>("GET", `/sessions/${id}`),
    refetchInterval: 3000,
  });
  if (!one.data)
    return (
      <>
        <PageHead title="Session" />
        <Failure error={one.error} />
      </>
    );
  const s = one.data;
  return (
    <>
      <Trail to="/sessions" of="Sessions">
        {s.id}
      </Trail>
      <PageHead
        title={`${s.person || s.user || "Nobody"} on ${s.client}${s.place ? `, ${s.place}` : ""}`}
        lead={
          <span className="flex items-baseline gap-4">
            <Verdict kind={s.open ? "in" : "wait"}>{s.open ? "open" : "ended"}</Verdict>
            <span>
              since <When at={s.began} /> · {lasts(s)}
            </span>
          </span>
        }
      >
        {s.open && (
          <>
            <Button needs="assist" onClick={() => setAsk("reauthenticate")}>
              Re-authenticate
            </Button>
            <Button needs="configure" onClick={() => setAsk("change")}>
              Change pass
            </Button>
            <Button danger needs="assist" onClick={() => setAsk("disconnect")}>
              Disconnect
            </Button>
          </>
        )}
      </PageHead>
      {s.open && s.applied && s.vlan && s.applied !== s.vlan && (
        <div className="mb-2">
          <Notice tone="warn">
            <b>
              VLAN {s.vlan} was given, and {s.client} says that it applied VLAN {s.applied}.
            </b>{" "}
            Create VLAN {s.vlan} on the device, or allow it on the port.
          </Notice>
        </div>
      )}
      <div className="grid gap-7 *:min-w-0 lg:grid-cols-[minmax(0,1fr)_320px]">
        <div>
          <table className="grid-table">
            <tbody>
              {s.attempt && (
                <Told
                  at={s.attempt.at}
                  mark={<Glyph kind="in" />}
                  title={`Admitted on ${s.attempt.client}`}
                  link={`/attempts/${s.attempt.id}`}
                >
                  policy <b>{s.attempt.policy || "of a remote server"}</b>
                  {s.attempt.pass && (
                    <>
                      {" "}
                      · pass <PassChip name={s.attempt.pass} /> {s.attempt.vlan && `VLAN ${s.attempt.vlan}`}
                    </>
                  )}
                </Told>
              )}
              <Story list={s.story} />
            </tbody>
          </table>
          <Earlier list={s.earlier} />
        </div>
        <Facts s={s} />
      </div>
      {ask && <AskOne id={s.id} action={ask} onClose={() => setAsk(undefined)} />}
    </>
  );
}

const Glyph = ({ kind }: { kind: "in" | "out" }) => (
  <span className={kind === "in" ? "text-in" : "text-out"}>
    <Bar kind={kind} />
  </span>
);

const titles: Record<string, string> = {
  start: "Session started",
  interim: "Goes on",
  stop: "Session ended",
  lost: "Counted as over",
};

/** The records of a session. Of those that only say that it goes on, the first ones and the last are shown. */
function Story({ list }: { list: Event[] }) {
  const [all, setAll] = useState(false);
  const dull = (e: Event, i: number) =>
    e.kind === "interim" && !e.note && e.address === list[i - 1]?.address && i < list.length - 1;
  const hidden = all ? 0 : list.filter(dull).length;
  let told = false;
  return list.map((e, i) => {
    if (!all && dull(e, i)) {
      if (told || hidden < 2) {
        if (hidden >= 2) return null;
      } else {
        told = true;
        return (
          <tr key={e.id}>
            <td />
            <td />
            <td colSpan={3}>
              <button className="text-soft underline" onClick={() => setAll(true)}>
                Show {hidden} more records that say it goes on
              </button>
            </td>
          </tr>
        );
      }
    }
    const asked = e.kind === "asked";
    const done = asked && e.text.includes(": done");
    return (
      <Told
        key={e.id}
        at={e.at}
        mark={
          asked ? (
            <Glyph kind={done ? "in" : "out"} />
          ) : (
            <span aria-hidden className="inline-block h-[7px] w-[7px] rounded-full bg-soft" />
          )
        }
        title={asked ? e.text.slice(0, e.text.indexOf(":")) : (titles[e.kind] ?? e.kind)}
        attributes={e.attributes}
      >
        {asked
          ? e.text.slice(e.text.indexOf(":") + 2)
          : [
              e.kind === "stop" || e.kind === "lost" ? e.text.slice(e.text.indexOf(":") + 2) : "",
              e.address && `address ${e.address}`,
              e.kind !== "start" && `${amount(e.in)} from the device, ${amount(e.out)} to it`,
              e.note,
            ]
              .filter(Boolean)
              .join(" · ")}
      </Told>
    );
  });
}

function Told({
  at,
  mark,
  title,
  link,
  attributes = [],
  children,
}: {
  at: string;
  mark: ReactNode;
  title: string;
  link?: string;
  attributes?: Schema["FactsAttribute"][];
  children: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <tr>
        <td className="w-24">
          <When at={at} />
        </td>
        <td className="w-7">{mark}</td>
        <td className="w-56">
          <b>{title}</b>
        </td>
        <td>{children}</td>
        <td className="w-20 pr-0 text-right">
          {link && (
            <Link className="underline" to={link}>
              road
            </Link>
          )}
          {attributes.length > 0 && (
            <button className="underline" aria-expanded={open} onClick={() => setOpen(!open)}>
              record
            </button>
          )}
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={5} className="bg-paper">
            <dl className="mono grid grid-cols-[220px_1fr] text-[13px]">
              {attributes.map((a, i) => (
                <Fragment key={i}>
                  <dt className="text-soft">{a.name}</dt>
                  <dd className="[overflow-wrap:anywhere]">{a.value}</dd>
                </Fragment>
              ))}
            </dl>
          </td>
        </tr>
      )}
    </>
  );
}

function Earlier({ list }: { list: Schema["Session"][] }) {
  const go = useNavigate();
  if (list.length === 0) return null;
  return (
    <>
      <h2 className="mt-5 mb-1">The same person before</h2>
      <table className="grid-table">
        <tbody>
          {list.map((s) => (
            <tr key={s.id} {...rowKeys(() => go(`/sessions/${s.id}`))}>
              <td className="w-32">
                <When at={s.began} />
              </td>
              <td className="mono">{s.client}</td>
              <td className="mono">{s.place}</td>
              <td className="mono">{s.address}</td>
              <td>{s.cause}</td>
              <td className="text-right">{lasts(s)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Facts({ s }: { s: Detail }) {
  const rows: [string, ReactNode][] = [
    ["name", s.user],
    ["MAC", s.mac],
    ["address", s.address],
    ["VLAN", s.vlan || s.applied ? <VLANs s={s} /> : ""],
    ["pass", s.pass],
    ["lane", s.lane],
    ["client", s.client],
    ["calls itself", s.nas],
    ["where", s.place],
    ["last word", <When at={s.last} />],
    ["from the device", amount(s.in)],
    ["to the device", amount(s.out)],
    ["ended by", s.cause],
    ["note", s.note],
    ["session", s.session],
  ];
  return (
    <div>
      <h2 className="mb-1">What is known</h2>
      <dl className="grid grid-cols-[112px_minmax(0,1fr)] text-[13px]">
        {rows
          .filter(([, v]) => v)
          .map(([k, v]) => (
            <Fragment key={k}>
              <dt className="border-b border-hair py-[3.4px] pr-2 text-soft">{k}</dt>
              <dd className="mono border-b border-hair py-[3.4px] [overflow-wrap:anywhere]">{v}</dd>
            </Fragment>
          ))}
      </dl>
      {s.user && (
        <p className="mt-3 flex flex-col gap-1 text-[13px]">
          <Link className="underline" to={`/sessions?user=${encodeURIComponent(s.user)}`}>
            Open sessions of {s.user}
          </Link>
          <Link className="underline" to={`/sessions?state=ended&user=${encodeURIComponent(s.user)}`}>
            Sessions that ended
          </Link>
          <Link className="underline" to={`/attempts?user=${encodeURIComponent(s.user)}`}>
            Attempts
          </Link>
        </p>
      )}
    </div>
  );
}
