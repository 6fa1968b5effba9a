import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/client";
import { Button, Failure, Notice, PageHead, When } from "../../ui/basic";
import { TextField } from "../../ui/form";

export function OperatorsPage() {
  const queries = useQueryClient();
  const operators = useQuery({ queryKey: ["operators"], queryFn: async () => (await api.GET("/operators")).data! });
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: async () => (await api.GET("/tokens")).data! });
  const [form, setForm] = useState({ name: "", password: "" });
  const [tokenName, setTokenName] = useState("");
  const done = { onSuccess: () => queries.invalidateQueries() };
  const add = useMutation({
    mutationFn: () => api.POST("/operators", { body: form }),
    onSuccess: () => {
      setForm({ name: "", password: "" });
      queries.invalidateQueries();
    },
  });
  const remove = useMutation({
    mutationFn: (id: string) => api.DELETE("/operators/{id}", { params: { path: { id } } }),
    ...done,
  });
  const make = useMutation({
    mutationFn: async () => (await api.POST("/tokens", { body: { name: tokenName } })).data!,
    ...done,
  });
  const end = useMutation({
    mutationFn: (id: string) => api.DELETE("/tokens/{id}", { params: { path: { id } } }),
    ...done,
  });
  return (
    <div className="max-w-[860px]">
      <PageHead title="Operators" lead="people who administer Tollgate Key" />
      <Failure error={operators.error ?? remove.error} />
      <table className="grid-table">
        <thead>
          <tr>
            <th>Name</th>
            <th>Since</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {operators.data?.items.map((o) => (
            <tr key={o.id}>
              <td className="font-semibold">{o.name}</td>
              <td>
                <When at={o.created} long />
              </td>
              <td className="pr-0 text-right">
                <Button danger disabled={operators.data.items.length < 2} onClick={() => remove.mutate(o.id)}>
                  Remove
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <form
        className="mt-3 grid grid-cols-[1fr_1fr_auto] items-start gap-3"
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
        <Button type="submit" className="mt-[22px]" disabled={!form.name || add.isPending}>
          Add operator
        </Button>
      </form>
      <h2 className="mt-6 mb-1.5">Tokens for the command line</h2>
      <Failure error={tokens.error ?? make.error ?? end.error} />
      <table className="grid-table">
        <thead>
          <tr>
            <th>Name</th>
            <th>Operator</th>
            <th>Made</th>
            <th>Last used</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {tokens.data?.items.map((t) => (
            <tr key={t.id}>
              <td className="font-semibold">{t.name}</td>
              <td>{t.operator}</td>
              <td>
                <When at={t.created} long />
              </td>
              <td>
                <When at={t.used} long />
              </td>
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
        <Button type="submit" disabled={!tokenName || make.isPending}>
          Make a token
        </Button>
      </form>
    </div>
  );
}
