import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { call, type Schema } from "../../api/client";
import { useDraft, useObjects } from "../../api/hooks";
import { rowKeys, Verdict, verdictKind, When } from "../../ui/basic";
import { DeviceSettings } from "../../ui/device-settings";
import { useFirstHour } from "../watch/first-hour";
import type { Client, Made } from "./client";

/** What came from a client lately. */
export function Lately({ client }: { client: Client }) {
  const list = useQuery({
    queryKey: ["attempts", "of", client.name],
    queryFn: () =>
      call<{ items: Schema["Attempt"][] }>("GET", `/attempts?limit=8&client=${encodeURIComponent(client.name)}`),
    refetchInterval: 5000,
  });
  const go = useNavigate();
  const items = list.data?.items ?? [];
  return (
    <aside aria-label="Last attempts">
      <h2 className="mb-1.5">Last attempts</h2>
      {list.isSuccess && items.length === 0 && <p className="text-soft">It has asked for nobody yet.</p>}
      <table className="grid-table">
        <tbody>
          {items.map((a) => (
            <tr key={a.id} {...rowKeys(() => go(`/attempts/${a.id}`))}>
              <td>
                <When at={a.at} />
              </td>
              <td>
                <Verdict kind={verdictKind(a.verdict)}>{a.person || a.sent || a.mac}</Verdict>
                {a.reason && a.verdict !== "admitted" && <div className="mono text-out">{a.reason}</div>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {items.length > 0 && (
        <Link className="text-[13px] underline" to={`/attempts?client=${encodeURIComponent(client.name)}`}>
          All of them
        </Link>
      )}
      {client.dropped > 0 && <p className="mt-2 text-soft">{client.dropped.toLocaleString()} requests discarded.</p>}
    </aside>
  );
}

/** What to set on the device. A secret that was just made is told here alone. */
export function Settings({ made }: { made?: Made }) {
  const hour = useFirstHour();
  const waits = (useDraft().data?.changes.length ?? 0) > 0;
  const passes = useObjects("passes").data?.items ?? [];
  return (
    <DeviceSettings
      protocol={made?.protocol ?? "RADIUS"}
      servers={hour.data?.servers ?? []}
      secret={made?.secret}
      waits={waits}
      vlans={passes.filter((p) => p.vlan).map((p) => ({ vlan: p.vlan ?? "", pass: p.name }))}
    />
  );
}
