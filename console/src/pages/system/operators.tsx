import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schema } from "../../api/client";
import { useMay } from "../../api/rights";
import { Button, ButtonLink, Failure, PageHead, When } from "../../ui/basic";
import { TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { OperatorSettings } from "./operator-settings";
import { OperatorSessions } from "./operator-sessions";
import { roleNames, roleOptions, roles, type Role } from "./roles";

/** Who administers, with which role, and how they sign in. */
export function OperatorsPage() {
  const queries = useQueryClient();
  const own = useMay("own");
  const operators = useQuery({
    queryKey: ["operators"],
    queryFn: async () => (await api.GET("/operators")).data!,
  });
  const done = { onSettled: () => queries.invalidateQueries() };
  const remove = useMutation({
    mutationFn: (ref: string) => api.DELETE("/operators/{ref}", { params: { path: { ref } } }),
    ...done,
  });
  const change = useMutation({
    mutationFn: ({ ref, ...body }: { ref: string; role: Role; clients: string[] }) =>
      api.PUT("/operators/{ref}", { params: { path: { ref } }, body }),
    ...done,
  });
  const drop = useMutation({
    mutationFn: (ref: string) => api.DELETE("/operators/{ref}/factor", { params: { path: { ref } } }),
    ...done,
  });
  return (
    <div className="max-w-[980px]">
      <PageHead title="Operators" lead="people who administer Tollgate Key">
        <ButtonLink to="/audit?kind=operator">What changed here</ButtonLink>
      </PageHead>
      <Failure error={operators.error ?? remove.error ?? change.error ?? drop.error} />
      <table className="grid-table">
        <thead>
          <tr>
            <th>Name</th>
            <th>Role</th>
            <th>Clients</th>
            <th>Second factor</th>
            <th>Kept</th>
            <th>Since</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {operators.data?.items.map((o) => (
            <tr key={o.id}>
              <td className="font-semibold">{o.name}</td>
              <td>
                <select
                  aria-label={`Role of ${o.name}`}
                  className="field w-auto py-[2px]"
                  value={o.role}
                  disabled={!own || change.isPending || o.source !== ""}
                  title={
                    o.source
                      ? `The role comes from groups of ${o.source}.`
                      : own
                        ? roles[o.role as Role]
                        : "Only an owner gives roles."
                  }
                  onChange={(e) => change.mutate({ ref: o.id, role: e.target.value as Role, clients: o.clients })}
                >
                  {roleNames.map((role) => (
                    <option key={role}>{role}</option>
                  ))}
                </select>
              </td>
              <td>
                <Clients
                  o={o}
                  disabled={!own || o.role === "owner"}
                  set={(clients) => change.mutate({ ref: o.id, role: o.role as Role, clients })}
                />
              </td>
              <td>
                {o.secondFactor ? (
                  <>
                    yes{" "}
                    {own && (
                      <button className="text-[12px] text-soft underline" onClick={() => drop.mutate(o.name)}>
                        remove
                      </button>
                    )}
                  </>
                ) : o.lacking ? (
                  <span className="text-out">needed, not enrolled</span>
                ) : (
                  <span className="text-soft">no</span>
                )}
              </td>
              <td>{o.source || "here"}</td>
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
      {own && <NewOperator />}
      <OperatorSettings />
      <OperatorSessions title="Browser sessions" />
    </div>
  );
}

/** The tags of the clients that a role is limited to; takes effect with Enter, or when the field is left. */
function Clients({ o, disabled, set }: { o: Schema["Operator"]; disabled: boolean; set: (clients: string[]) => void }) {
  const given = o.clients.join(" ");
  const take = (text: string) => text.trim() !== given && set(text.split(/[\s,]+/).filter(Boolean));
  return (
    <input
      key={given}
      aria-label={`Clients of ${o.name}`}
      placeholder="all"
      defaultValue={given}
      disabled={disabled}
      title={
        o.role === "owner"
          ? "An owner is not limited."
          : "Tags of the clients that the role is limited to, such as site=west; empty is all."
      }
      className="field mono w-40 py-[2px] text-[12.5px]"
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
      onBlur={(e) => take(e.currentTarget.value)}
    />
  );
}

/** Adds an operator who is kept here. */
function NewOperator() {
  const queries = useQueryClient();
  const [form, setForm] = useState({ name: "", password: "", role: "engineer" as Role });
  const add = useMutation({
    mutationFn: () => api.POST("/operators", { body: form }),
    onSuccess: () => {
      setForm({ name: "", password: "", role: "engineer" });
      queries.invalidateQueries();
    },
  });
  return (
    <form
      className="mt-3 grid sm:grid-cols-2 lg:grid-cols-[1fr_1fr_1.4fr_auto] items-start gap-3"
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
        options={roleOptions}
      />
      <Button type="submit" className="mt-[22px]" disabled={!form.name || add.isPending}>
        Add operator
      </Button>
    </form>
  );
}
