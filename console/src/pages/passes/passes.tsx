import { useNavigate } from "react-router";
import {} from "../../api/client";
import { useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, PageHead, PassChip, rowKeys } from "../../ui/basic";
import { type Pass, duration } from "./format";

export function PassesPage() {
  const list = useObjects("passes");
  const go = useNavigate();
  return (
    <>
      <PageHead title="Passes" lead="what is granted">
        <ButtonLink primary to="/passes/new">
          Add pass
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No pass yet">A pass is what a policy grants: a VLAN, a role, a time-out.</Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>VLAN</th>
              <th>Role</th>
              <th>Session</th>
              <th>Further</th>
              <th>Given by</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((p) => (
              <tr key={p.id} {...rowKeys(() => go(`/passes/${p.id}`))}>
                <td>
                  <PassChip name={p.name} />
                  {p.extends && <div className="text-[12px] text-soft">extends {p.extends}</div>}
                </td>
                <td className="mono">{p.vlan}</td>
                <td className="mono">{p.role}</td>
                <td>{p.sessionTimeout ? duration(p.sessionTimeout) : ""}</td>
                <td className="mono">{further(p)}</td>
                <td className="text-soft">{p.usedBy.join(", ") || "nothing"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

/** What a pass holds beside VLAN, role and session, in a few words. */
const further = (p: Pass) =>
  [
    p.atTimeout && "signs in again",
    p.idleTimeout && `idle ${duration(p.idleTimeout)}`,
    p.accessRules.length && `${p.accessRules.length} access rules`,
    p.address,
    p.pool && `pool ${p.pool}`,
    p.reportName && `reports ${p.reportName}`,
    p.class && `class ${p.class}`,
    p.privilegeLevel && `level ${p.privilegeLevel}`,
    p.commands && `commands ${p.commands}`,
    p.arguments.length && `${p.arguments.length} arguments`,
    (p.rateDown || p.rateUp) && `${p.rateDown}/${p.rateUp} kbit/s`,
    ...p.attributes.map((a) => `${a.name}=${a.value}`),
  ]
    .filter(Boolean)
    .join(", ");
