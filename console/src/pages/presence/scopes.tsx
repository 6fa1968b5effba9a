import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, PageHead, rowKeys, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { lines, LinesField, TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { usePresenceState } from "./sources";

type Scope = Schema["Scope"];

/** Which networks, devices and names are people's, with how much each rule left out. */
export function ScopesPage() {
  const list = useObjects("scopes", "", 5_000);
  const state = usePresenceState();
  const go = useNavigate();
  const own = new Set(list.data?.items.map((o) => o.name));
  const builtIn = state.data?.rules.filter((r) => !own.has(r.rule)) ?? [];
  return (
    <>
      <PageHead title="Scopes" lead="what is watched, and what never is a person">
        <ButtonLink primary to="/scopes/new">
          Add scope
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="Everything is watched">
          Leave out what is nobody's: printers, switches, guests, accounts of services.
        </Empty>
      ) : (
        <table className="grid-table mb-6">
          <thead>
            <tr>
              <th>Name</th>
              <th>Does</th>
              <th>Networks</th>
              <th>Names and devices</th>
              <th className="!text-right">Left out so far</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((o) => (
              <tr key={o.id} {...rowKeys(() => go(`/scopes/${o.id}`))}>
                <td className="font-semibold">{o.name}</td>
                <td>{o.leaveOut ? "leaves out" : "watches"}</td>
                <td className="mono">{o.networks.join(", ")}</td>
                <td className="mono">{[...o.accounts, ...o.hosts, ...o.macs].join(", ")}</td>
                <td className="text-right">{o.dropped.toLocaleString()}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {builtIn.length > 0 && (
        <>
          <h2 className="mb-1">Left out without a scope</h2>
          <table className="grid-table">
            <tbody>
              {builtIn.map((r) => (
                <tr key={r.rule}>
                  <td>{r.rule}</td>
                  <td className="text-right">{r.count.toLocaleString()}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}

export function ScopePage() {
  const { id = "" } = useParams();
  const one = useObject("scopes", id);
  if (id === "new") return <ScopeForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Scope" />
        <Failure error={one.error} />
      </>
    );
  return <ScopeForm key={one.data.id} scope={one.data} />;
}

function ScopeForm({ scope: o }: { scope?: Scope }) {
  const [form, setForm] = useState({
    name: o?.name ?? "",
    leaveOut: o?.leaveOut ?? true,
    networks: o?.networks ?? [],
    accounts: o?.accounts ?? [],
    hosts: o?.hosts ?? [],
    macs: o?.macs ?? [],
    note: o?.note ?? "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const list = (field: "networks" | "accounts" | "hosts" | "macs", label: string, hint: string, error: unknown) => (
    <LinesField
      label={label}
      field={field}
      hint={hint}
      value={form[field]}
      onChange={(v) => set({ [field]: v })}
      error={error}
    />
  );
  return (
    <div className="max-w-[760px]">
      <Trail to="/scopes" of="Scopes">
        {o?.name ?? "new"}
      </Trail>
      <PageHead title={o?.name ?? "Add scope"} />
      {o && <Problems list={o.problems} />}
      <Editor
        kind="scopes"
        noun="scope"
        object={o}
        body={() => ({
          ...form,
          networks: lines(form.networks),
          accounts: lines(form.accounts),
          hosts: lines(form.hosts),
          macs: lines(form.macs),
        })}
      >
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <Pick
              label="Does"
              field="leaveOut"
              hint="Once a network is watched by name, what no scope watches is left out."
              value={form.leaveOut ? "out" : "watch"}
              onChange={(v) => set({ leaveOut: v === "out" })}
              error={error}
              options={[
                { value: "out", label: "leaves out what fits" },
                { value: "watch", label: "watches these networks" },
              ]}
            />
            {list("networks", "Networks", "Prefixes, one a line; of all scopes the longest decides.", error)}
            {form.leaveOut && (
              <>
                {list("accounts", "Accounts", "Names that are never people, such as svc-*.", error)}
                {list("hosts", "Hosts", "Hosts that are nobody's, such as kiosk-*.", error)}
                {list("macs", "Devices", "Beginnings of MAC addresses, such as 02-00-99.", error)}
              </>
            )}
            <TextField label="Note" field="note" value={form.note} onChange={(note) => set({ note })} error={error} />
          </>
        )}
      </Editor>
    </div>
  );
}
