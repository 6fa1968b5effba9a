import { Rows, older } from "../../ui/rows";
import { useNavigate } from "react-router";
import type { Schema } from "../../api/client";
import { useRecords } from "../../api/records";
import { Button, millis, PageHead, PassChip, rowKeys, Verdict, verdictKind, When } from "../../ui/basic";
import { Filters, Liveness, RecordTable } from "../../ui/records";

const texts = { q: "Any text", user: "User", mac: "MAC", client: "Client", reason: "Reason", lane: "Lane" };
const keys = [...Object.keys(texts), "verdict"];

export function AttemptsPage() {
  const go = useNavigate();
  const r = useRecords<Schema["Attempt"]>("attempts", "attempt", keys);
  return (
    <>
      <PageHead title="Attempts" lead={<Liveness of={r} />}>
        <Button onClick={r.pause}>{r.live ? "Pause" : "Resume"}</Button>
      </PageHead>
      <Filters of={r} texts={texts}>
        {null}
      </Filters>
      <RecordTable
        of={r}
        title="No matching attempts"
        none="They appear here as they arrive."
        head={
          <>
            <th>Time</th>
            <th>Verdict</th>
            <th>Name</th>
            <th>Person</th>
            <th>Where</th>
            <th>Client</th>
            <th>Pass or reason</th>
            <th className="!pr-0 !text-right">Took</th>
          </>
        }
      >
        <Rows
          items={r.rows}
          id={(a) => a.id}
          also={() => ""}
          more={r.searched ? undefined : older(r.list)}
          row={(a) => (
            <tr {...rowKeys(() => go(`/attempts/${a.id}`))}>
              <td>
                <When at={a.at} />
              </td>
              <td>
                <Verdict kind={verdictKind(a.verdict)}>{a.verdict}</Verdict>
              </td>
              <td className="mono max-w-56 truncate">{a.sent}</td>
              <td>{a.person}</td>
              <td>{a.where}</td>
              <td className="mono">{a.client}</td>
              <td>
                {a.verdict === "admitted" ? (
                  <>
                    {a.pass ? <PassChip name={a.pass} /> : <span className="text-soft">granted remotely</span>}{" "}
                    {a.vlan && <span className="mono text-soft">VLAN {a.vlan}</span>}
                  </>
                ) : (
                  <span className="mono text-out" title={a.sentence}>
                    {a.reason}
                  </span>
                )}
              </td>
              <td className="mono pr-0 text-right text-soft">{millis(a.micros)}</td>
            </tr>
          )}
        />
      </RecordTable>
    </>
  );
}
