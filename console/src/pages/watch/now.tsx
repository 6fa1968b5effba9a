import { Link, useNavigate } from "react-router";
import type { Schema } from "../../api/client";
import { useDraft, useNow } from "../../api/hooks";
import { linkTo } from "../../api/link";
import { FirstHour, useFirstHour } from "./first-hour";
import { Bar, ButtonLink, Empty, Failure, millis, PageHead, rowKeys, Verdict, When } from "../../ui/basic";

const W = 1040;
const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hour12: false });

/** Admitted upwards, refused and discarded downwards, one bar a minute. */
function Chart({ minutes }: { minutes: Schema["Minute"][] }) {
  const top = Math.max(8, ...minutes.map((m) => m.admitted));
  const low = Math.max(4, ...minutes.map((m) => m.refused + m.dropped));
  const w = W / minutes.length;
  return (
    <svg
      viewBox={`0 0 ${W} 160`}
      width="100%"
      className="block"
      role="img"
      aria-label="Admitted and refused attempts by minute in the last hour"
    >
      {minutes.map((m, i) => {
        const at = new Date(m.at);
        const up = (m.admitted / top) * 94;
        const down = (m.refused / low) * 34;
        const drop = (m.dropped / low) * 34;
        return (
          <g key={m.at}>
            <title>{`${clock.format(at)}: ${m.admitted} admitted, ${m.refused} refused, ${m.dropped} discarded`}</title>
            <rect x={i * w} y={0} width={w} height={140} fill="transparent" />
            {m.admitted > 0 && (
              <rect
                x={i * w + 1}
                y={98 - up}
                width={w - 3}
                height={up}
                fill="var(--in)"
                opacity={i === minutes.length - 1 ? 0.5 : 0.88}
              />
            )}
            {m.refused > 0 && <rect x={i * w + 1} y={101} width={w - 3} height={Math.max(2, down)} fill="var(--out)" />}
            {m.dropped > 0 && (
              <rect
                x={i * w + 1}
                y={101 + (m.refused > 0 ? Math.max(2, down) + 1 : 0)}
                width={w - 3}
                height={Math.max(2, drop)}
                fill="var(--soft)"
              />
            )}
            {at.getMinutes() % 10 === 0 && i < minutes.length - 3 && (
              <text x={i * w} y={156} fontSize={11.5} fill="var(--soft)">
                {clock.format(at)}
              </text>
            )}
          </g>
        );
      })}
      <line x1={0} y1={99.5} x2={W} y2={99.5} stroke="var(--ink)" />
    </svg>
  );
}

export function NowPage() {
  const now = useNow();
  const hour = useFirstHour();
  const draft = useDraft();
  const go = useNavigate();
  if (!now.data || hour.isLoading || draft.isLoading)
    return (
      <>
        <PageHead title="Now" />
        <Failure error={now.error} />
      </>
    );
  const n = now.data;
  const fresh = draft.data?.revision === 0;
  const waits = hour.data?.remains ? hour.data : undefined;
  const quiet = n.admitted + n.refused + n.dropped === 0;
  return (
    <>
      {waits && (
        <div className="mb-6">
          <FirstHour hour={waits} />
        </div>
      )}
      {!(waits && fresh) && (
        <>
          <PageHead
            title="The last hour"
            lead={
              <span className="flex flex-wrap gap-x-5">
                <Link to="/attempts?verdict=admitted">
                  <Verdict kind="in">{n.admitted.toLocaleString()} admitted</Verdict>
                </Link>
                <Link to="/attempts?verdict=refused">
                  <Verdict kind="out">{n.refused.toLocaleString()} refused</Verdict>
                </Link>
                <Verdict kind="wait">{n.waiting.toLocaleString()} waiting</Verdict>
                {n.dropped > 0 && <span className="text-soft">{n.dropped.toLocaleString()} discarded</span>}
              </span>
            }
          >
            <span className="text-soft">
              {n.medianMicros > 0 && `median ${millis(n.medianMicros)} · `}
              {now.isError ? <b className="text-out">stale</b> : "live"}
            </span>
          </PageHead>
          <Chart minutes={n.minutes} />
          {quiet && !waits && (
            <Empty title="No requests yet">
              Add the device as a{" "}
              <Link className="underline" to="/clients">
                client
              </Link>
              , and point it to this machine.
            </Empty>
          )}
        </>
      )}
      <h2 className="mt-4 mb-1.5">Needs attention</h2>
      {n.attention.length === 0 ? (
        <p className="text-soft">Nothing.</p>
      ) : (
        <table className="grid-table">
          <tbody>
            {n.attention.map((a, i) => (
              <tr key={i}>
                <td className={`w-7 ${a.severity === "fail" ? "text-out" : "text-wait"}`}>
                  <Bar kind={a.severity === "fail" ? "out" : "wait"} />
                </td>
                <td>
                  <b>{a.title}</b>
                  <br />
                  <span className="text-soft">{a.text}</span>
                </td>
                <td className="text-right whitespace-nowrap">
                  {a.action && (
                    <ButtonLink
                      to={
                        a.code === "stranger.asks"
                          ? `${linkTo("client")}?add=${a.params.address}`
                          : linkTo(a.kind, a.id)
                      }
                    >
                      {a.action}
                    </ButtonLink>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <h2 className="mt-5 mb-1.5">Recent refusals by person and device</h2>
      {n.refusals.length === 0 ? (
        <p className="text-soft">None in the last hour.</p>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Time</th>
              <th>Name</th>
              <th>Where</th>
              <th>Client</th>
              <th>Reason</th>
              <th>In words</th>
            </tr>
          </thead>
          <tbody>
            {n.refusals.map((a) => (
              <tr key={a.id} {...rowKeys(() => go(`/attempts/${a.id}`))}>
                <td>
                  <When at={a.at} />
                </td>
                <td className="mono max-w-56 truncate" title={a.sent}>
                  {a.sent}
                </td>
                <td className="max-w-40 truncate" title={a.where}>
                  {a.where}
                </td>
                <td className="mono whitespace-nowrap">{a.client}</td>
                <td className="mono whitespace-nowrap text-out">{a.reason}</td>
                <td>
                  <span className="line-clamp-2" title={a.sentence}>
                    {a.sentence}
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
