import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, PageHead, rowKeys, Verdict, When } from "../../ui/basic";
import { RemoteForm, shown } from "./remote-form";

type Remote = Schema["Remote"];

export function RemotesPage() {
  const list = useObjects("remotes", "", 5_000);
  const go = useNavigate();
  return (
    <>
      <PageHead title="Remote servers" lead="other RADIUS servers, which lanes forward to">
        <ButtonLink primary to="/remotes/new">
          Add remote server
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No remote server">
          Everything is decided here. If a partner's people use this network, their own server can decide about them:
          add it, and select it in a lane.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Servers</th>
              <th>Transport</th>
              <th>State</th>
              <th>Lanes</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((r) => (
              <tr key={r.id} {...rowKeys(() => go(`/remotes/${r.id}`))}>
                <td className="font-semibold">{r.name}</td>
                <td className="mono">{r.servers.map(shown).join(", ")}</td>
                <td>{r.transport === "tls" ? "TLS" : "UDP"}</td>
                <td>
                  <Health states={r.states} />
                </td>
                <td>{r.usedBy.join(", ") || <span className="text-soft">no lane forwards to it</span>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function RemotePage() {
  const { id = "" } = useParams();
  const one = useObject("remotes", id, 3_000);
  if (id === "new") return <RemoteForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Remote server" />
        <Failure error={one.error} />
      </>
    );
  return <RemoteForm key={one.data.id} remote={one.data} />;
}

/** How the machines of a remote server are doing, in a word. */
function Health({ states }: { states: Remote["states"] }) {
  const silent = states.filter((s) => s.silent).length;
  if (silent > 0)
    return (
      <Verdict kind="out">
        {silent} of {states.length} silent
      </Verdict>
    );
  return states.some((s) => s.heard) ? <span className="text-soft">answers</span> : null;
}

/** Each machine with what is known of it. */
export function Machines({ states }: { states: Remote["states"] }) {
  if (states.length === 0) return null;
  return (
    <table className="grid-table mb-5">
      <thead>
        <tr>
          <th>Machine</th>
          <th>State</th>
          <th>Last answer</th>
          <th>Answered</th>
        </tr>
      </thead>
      <tbody>
        {states.map((s) => (
          <tr key={s.address}>
            <td className="mono">{s.address}</td>
            <td>
              {s.silent ? (
                <>
                  <Verdict kind="out">silent</Verdict> <span className="text-soft">{s.fault}</span>
                </>
              ) : s.heard ? (
                <>
                  answers{s.version && <span className="text-soft"> {s.version}</span>}
                  {!s.speaks && <span className="text-soft">, but no Status-Server</span>}
                </>
              ) : (
                <span className="text-soft">not asked yet</span>
              )}
            </td>
            <td>
              {s.heard && (
                <>
                  <When at={s.heard} />, in {(s.micros / 1000).toFixed(1)} ms
                </>
              )}
            </td>
            <td>
              {s.answers} of {s.asked}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
