import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schema } from "../../api/client";
import { Button, Failure, Notice, PageHead, When } from "../../ui/basic";
import { Pick, TextField } from "../../ui/form";
import { useAbout } from "../../api/hooks";
import { useMay } from "../../api/rights";

type Role = Schema["RoleInput"]["role"];

/** What each role is for. */
const roles: Record<Role, string> = {
  owner: "everything, operators and backups too",
  engineer: "configuration, publishing, and all that the helpdesk may",
  helpdesk: "people, devices, second factors, sessions and attempts",
  reception: "its own tokens only, until there are visitors",
  auditor: "sees everything but secrets, changes nothing",
};
const options = Object.keys(roles).map((value) => ({ value, label: value }));

export function OperatorsPage() {
  const queries = useQueryClient();
  const about = useAbout();
  const own = useMay("own");
  const operators = useQuery({
    queryKey: ["operators"],
    queryFn: async () => (await api.GET("/operators")).data!,
    enabled: useMay("read"),
  });
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: async () => (await api.GET("/tokens")).data! });
  const [form, setForm] = useState({ name: "", password: "", role: "engineer" as Role });
  const [tokenName, setTokenName] = useState("");
  const [days, setDays] = useState(90);
  const [scope, setScope] = useState<Role | "">("");
  const [from, setFrom] = useState("");
  const done = { onSuccess: () => queries.invalidateQueries() };
  const add = useMutation({
    mutationFn: () => api.POST("/operators", { body: form }),
    onSuccess: () => {
      setForm({ name: "", password: "", role: "engineer" });
      queries.invalidateQueries();
    },
  });
  const remove = useMutation({
    mutationFn: (ref: string) => api.DELETE("/operators/{ref}", { params: { path: { ref } } }),
    ...done,
  });
  const change = useMutation({
    mutationFn: ({ ref, role }: { ref: string; role: Role }) =>
      api.PUT("/operators/{ref}", { params: { path: { ref } }, body: { role } }),
    ...done,
  });
  const make = useMutation({
    mutationFn: async () =>
      (
        await api.POST("/tokens", {
          body: {
            name: tokenName,
            days,
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
    <div className="max-w-[860px]">
      <PageHead title="Operators" lead="people who administer Tollgate Key" />
      <Failure error={operators.error ?? remove.error ?? change.error} />
      <p className="mb-3 text-[13px]">
        You are <b>{about.data?.operator}</b>, with the role <b>{about.data?.role}</b>:{" "}
        {roles[about.data?.role as Role]}.
      </p>
      {operators.data && (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Role</th>
              <th>Since</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {operators.data.items.map((o) => (
              <tr key={o.id}>
                <td className="font-semibold">{o.name}</td>
                <td>
                  <select
                    aria-label={`Role of ${o.name}`}
                    className="field w-auto py-[2px]"
                    value={o.role}
                    disabled={!own || change.isPending}
                    title={own ? roles[o.role as Role] : "Only an owner gives roles."}
                    onChange={(e) => change.mutate({ ref: o.id, role: e.target.value as Role })}
                  >
                    {Object.keys(roles).map((role) => (
                      <option key={role}>{role}</option>
                    ))}
                  </select>
                </td>
                <td>
                  <When at={o.created} long />
                </td>
                <td className="pr-0 text-right">
                  <Button danger needs="own" onClick={() => remove.mutate(o.id)}>
                    Remove
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {own && (
        <form
          className="mt-3 grid grid-cols-[1fr_1fr_1.4fr_auto] items-start gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
        >
          <TextField
            label="New operator"
            field="name"
            value={form.name}
            onChange={(name) => setForm({ ...form, name })}
            error={add.error}
          />
          <TextField
            label="Password"
            field="password"
            type="password"
            hint="At least 10 characters."
            value={form.password}
            onChange={(password) => setForm({ ...form, password })}
            error={add.error}
            autoComplete="new-password"
          />
          <Pick
            label="Role"
            field="role"
            value={form.role}
            hint={roles[form.role]}
            onChange={(role) => setForm({ ...form, role: role as Role })}
            error={add.error}
            options={options}
          />
          <Button type="submit" className="mt-[22px]" disabled={!form.name || add.isPending}>
            Add operator
          </Button>
        </form>
      )}
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
        className="mt-3 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <input
          aria-label="Name of the new token"
          placeholder="What it is for"
          className="field w-64"
          value={tokenName}
          onChange={(e) => setTokenName(e.target.value)}
        />
        <label className="text-[13px] whitespace-nowrap">
          for{" "}
          <input
            aria-label="Days"
            type="number"
            min={1}
            max={3660}
            className="field inline-block !w-16"
            value={days}
            onChange={(e) => setDays(Number(e.target.value))}
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
          {Object.keys(roles).map((role) => (
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
        <Button type="submit" disabled={!tokenName || make.isPending}>
          Make a token
        </Button>
      </form>
    </div>
  );
}
