import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../../api/client";
import { Button, Failure, When } from "../../ui/basic";

/** Browser sessions: one's own, for an owner those of all. */
export function OperatorSessions({ title, of }: { title: string; of?: string }) {
  const queries = useQueryClient();
  const list = useQuery({
    queryKey: ["operator-sessions"],
    queryFn: async () => (await api.GET("/operator-sessions")).data!,
  });
  const end = useMutation({
    mutationFn: (id: string) => api.DELETE("/operator-sessions/{id}", { params: { path: { id } } }),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <>
      <h2 className="mt-6 mb-1.5">{title}</h2>
      <Failure error={list.error ?? end.error} />
      <table className="grid-table">
        <thead>
          <tr>
            <th>Operator</th>
            <th>From</th>
            <th>Browser</th>
            <th>Begun</th>
            <th>Last used</th>
            <th>Ends unused</th>
            <th>Ends anyway</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {list.data?.items
            .filter((s) => !of || s.operator === of)
            .map((s) => (
              <tr key={s.id}>
                <td className="font-semibold">
                  {s.operator}
                  {s.own && <span className="font-normal text-soft"> (this one)</span>}
                </td>
                <td className="mono">{s.from || "-"}</td>
                <td className="max-w-44 truncate text-soft" title={s.agent}>
                  {browser(s.agent)}
                </td>
                <td>
                  <When at={s.begun} long />
                </td>
                <td>
                  <When at={s.used} />
                </td>
                <td>
                  <When at={s.until} />
                </td>
                <td>{s.last ? <When at={s.last} long /> : "-"}</td>
                <td className="pr-0 text-right">
                  {!s.own && (
                    <Button danger onClick={() => end.mutate(s.id)}>
                      End
                    </Button>
                  )}
                </td>
              </tr>
            ))}
        </tbody>
      </table>
    </>
  );
}

/** The part of what a browser calls itself that tells it from others. */
function browser(agent: string): string {
  const name = agent.match(/(Firefox|Edg|HeadlessChrome|Chrome|Safari)\/(\d+)/);
  const system = agent.match(/\(([^;)]+)/);
  return name ? `${name[1]} ${name[2]}${system ? `, ${system[1]}` : ""}` : agent || "-";
}
