import { useNavigate, useParams } from "react-router";
import { useObject, useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, PageHead, rowKeys } from "../../ui/basic";
import { Health } from "./machines";
import { RemoteForm, shown } from "./remote-form";

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
                <td>{r.transport.toUpperCase()}</td>
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
