import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { call, type Schema } from "./client";

/** A recorded attempt as something to try again: through whom, who, how, and what else was in the request. */
export function useRecorded(id: string | null) {
  const one = useQuery({
    queryKey: ["attempt", id, "revision"],
    enabled: !!id,
    queryFn: () => call<Schema["AttemptDetail"]>("GET", `/attempts/${id}`),
  });
  return useMemo(() => {
    const a = one.data;
    if (!a) return undefined;
    const f = a.facts;
    const attributes = [
      ["NAS-Port-Type", f.portType],
      ["NAS-Port-Id", f.port],
      ["Calling-Station-Id", f.mac],
      ["Called-Station-Id", f.called],
      ["NAS-Identifier", f.nas],
      ["Service-Type", f.attributes?.find((x) => x.name === "Service-Type")?.value],
    ]
      .filter(([, v]) => v)
      .map(([name, value]) => ({ name: name!, value: value! }));
    return {
      ...a,
      sent: f.inner || f.sent,
      method: f.method && f.method !== "eap" ? f.method : "pap",
      attributes: f.gear ? [] : attributes,
      asks: f.gear?.asks ?? "",
      command: f.gear?.command ?? "",
      level: f.gear?.asks === "enable" ? f.gear.level : 0,
      vlan: f.gear ? "" : a.vlan,
    };
  }, [one.data]);
}
