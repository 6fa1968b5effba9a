import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/client";
import { Button, Failure, Notice, When } from "../../ui/basic";
import { roleNames, type Role } from "./roles";

/** Tokens for the command line: one's own, for an owner those of all. */
export function Tokens() {
  const queries = useQueryClient();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: async () => (await api.GET("/tokens")).data! });
  const [name, setName] = useState("");
  const [days, setDays] = useState("");
  const [scope, setScope] = useState<Role | "">("");
  const [from, setFrom] = useState("");
  const done = { onSuccess: () => queries.invalidateQueries() };
  const make = useMutation({
    mutationFn: async () =>
      (
        await api.POST("/tokens", {
          body: {
            name,
            days: Number(days) || undefined,
            scope: scope || undefined,
            from: from.split(/[\s,]+/).filter(Boolean),
          },
        })
      ).data!,
    ...done,
  });
  const end = useMutation({
    mutationFn: (id: string) => api.DELETE("/tokens/{id}", { params: { path: { id } } }),
    ...done,
  });
  return (
    <>
      <h2 className="mt-6 mb-1.5">Tokens for the command line</h2>
      <Failure error={tokens.error ?? make.error ?? end.error} />
      <table className="grid-table">
        <thead>
          <tr>
            <th>Name</th>
            <th>Operator</th>
            <th>May</th>
            <th>From</th>
            <th>Last used</th>
            <th>Ends</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {tokens.data?.items.map((t) => (
            <tr key={t.id}>
              <td className="font-semibold">{t.name}</td>
              <td>{t.operator}</td>
              <td>{t.scope ?? "all of the role"}</td>
              <td className={t.from.length ? "mono" : ""}>{t.from.join(" ") || "anywhere"}</td>
              <td>
                <When at={t.used} long />
              </td>
              <td className={t.until ? "" : "text-brass-ink"}>{t.until ? t.until.slice(0, 10) : "never"}</td>
              <td className="pr-0 text-right">
                <Button danger onClick={() => end.mutate(t.id)}>
                  End
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {make.data?.token && (
        <div className="mt-3">
          <Notice tone="in">
            The token, shown only here: <code className="font-semibold break-all select-all">{make.data.token}</code>
          </Notice>
        </div>
      )}
      <form
        className="mt-3 flex flex-wrap items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <input
          aria-label="Name of the new token"
          placeholder="What it is for"
          className="field w-64"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <label className="text-[13px] whitespace-nowrap">
          for{" "}
          <input
            aria-label="Days"
            type="number"
            min={1}
            max={3660}
            placeholder="90"
            className="field inline-block !w-16"
            value={days}
            onChange={(e) => setDays(e.target.value)}
          />{" "}
          days
        </label>
        <select
          aria-label="What it may"
          className="field w-auto"
          value={scope}
          onChange={(e) => setScope(e.target.value as Role | "")}
        >
          <option value="">may all that you may</option>
          {roleNames.map((role) => (
            <option key={role} value={role}>
              at most {role}
            </option>
          ))}
        </select>
        <input
          aria-label="Good from"
          placeholder="from anywhere, or prefixes"
          className="field w-52"
          value={from}
          onChange={(e) => setFrom(e.target.value)}
        />
        <Button type="submit" disabled={!name || make.isPending}>
          Make a token
        </Button>
      </form>
    </>
  );
}
