import { useQuery } from "@tanstack/react-query";
import { call, type Schema } from "../api/client";
import { useAbout } from "../api/hooks";

/** Chooses the node whose own is shown, where there are several; empty is the one that is asked. */
export function AtNode({ value, choose }: { value: string; choose: (node: string) => void }) {
  const here = useAbout().data?.node;
  const nodes = useQuery({
    queryKey: ["nodes"],
    queryFn: () => call<Schema["Nodes"]>("GET", "/nodes"),
    enabled: !!here,
  });
  const others = nodes.data?.items.filter((n) => !n.witness && n.name !== here) ?? [];
  if (!here || others.length === 0) return null;
  return (
    <label className="inline-flex items-center gap-1.5 text-[13px] text-soft">
      Node
      <select value={value} onChange={(e) => choose(e.target.value)} className="field text-[13px]">
        <option value="">{here}, which you are using</option>
        {others.map((n) => (
          <option key={n.name} value={n.name}>
            {n.name}
          </option>
        ))}
      </select>
    </label>
  );
}
