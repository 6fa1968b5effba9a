import { duration, type Pass } from "./format";
import { SessionLimit } from "./session-limit";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, call, type Schema } from "../../api/client";
import { useDebounced, useObject, useObjects } from "../../api/hooks";
import { Button, Failure, PageHead, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, LinesField, TextField } from "../../ui/form";
import { Missing } from "../../ui/missing";
import { Pick } from "../../ui/pick";

export function PassPage() {
  const { id = "" } = useParams();
  const one = useObject("passes", id);
  if (id === "new") return <PassForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Pass" />
        <Failure error={one.error} />
      </>
    );
  return <PassForm key={one.data.id} pass={one.data} />;
}

export function PassForm({ pass }: { pass?: Pass }) {
  const [form, setForm] = useState({
    name: pass?.name ?? "",
    extends: pass?.extends ?? "",
    vlan: pass?.vlan ?? "",
    sessionTimeout: pass?.sessionTimeout ?? 0,
    atTimeout: pass?.atTimeout ?? "",
    idleTimeout: pass?.idleTimeout ?? 0,
    maxSessions: pass?.maxSessions ?? 0,
    atLimit: pass?.atLimit ?? "",
    role: pass?.role ?? "",
    accessRules: pass?.accessRules ?? [],
    address: pass?.address ?? "",
    pool: pass?.pool ?? "",
    reportName: pass?.reportName ?? "",
    class: pass?.class ?? "",
    rateDown: pass?.rateDown ?? 0,
    rateUp: pass?.rateUp ?? 0,
    attributes: pass?.attributes ?? [],
    privilegeLevel: pass?.privilegeLevel ?? "",
    commands: pass?.commands ?? "",
    arguments: pass?.arguments ?? [],
    note: pass?.note ?? "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const others = useObjects("passes").data?.items.filter((p) => p.id !== pass?.id) ?? [];
  const pools = useObjects("pools").data?.items ?? [];
  const lists = useObjects("command-lists").data?.items ?? [];
  const dictionary = useQuery({
    queryKey: ["dictionary"],
    queryFn: async () => (await api.GET("/dictionary")).data!,
    staleTime: Infinity,
  });
  const typed = useDebounced(form, 200);
  const preview = useQuery({
    queryKey: ["preview", typed],
    queryFn: () => call<Schema["PassPreview"]>("POST", "/pass-preview", typed),
    placeholderData: (b) => b,
  });
  const n = Number(form.vlan);
  const badVLAN =
    /^\d+$/.test(form.vlan) && (n < 1 || n > 4094) ? `VLAN ${n} does not exist: identifiers go from 1 to 4094` : "";
  const open = form.extends && `If left empty, taken from ${form.extends}.`;
  const row = (i: number, patch: Partial<Schema["ConfigAttribute"]>) =>
    set({ attributes: form.attributes.map((a, j) => (j === i ? { ...a, ...patch } : a)) });
  return (
    <>
      <Trail to="/passes" of="Passes">
        {pass?.name ?? "new"}
      </Trail>
      <PageHead
        title={pass?.name ?? "Add pass"}
        lead={pass && (pass.usedBy.length ? `given by ${pass.usedBy.join(", ")}` : "given by nothing yet")}
      />
      <div className="grid gap-8 *:min-w-0 lg:grid-cols-[minmax(380px,480px)_minmax(0,1fr)]">
        <div>
          {pass && <Problems list={pass.problems} />}
          <Editor kind="passes" noun="pass" object={pass} body={() => form}>
            {(error) => (
              <>
                <TextField
                  label="Name"
                  field="name"
                  value={form.name}
                  onChange={(name) => set({ name })}
                  error={error}
                />
                <Pick
                  label="Extends"
                  search="passes"
                  field="extends"
                  hint="Empty fields take their value from that pass."
                  value={form.extends}
                  onChange={(v) => set({ extends: v })}
                  error={error}
                  options={[
                    { value: "", label: "no other pass" },
                    ...others.map((p) => ({ value: p.name, label: p.name })),
                  ]}
                />
                <TextField
                  label="VLAN"
                  field="vlan"
                  mono
                  hint={open || "A number from 1 to 4094, or a name. Sent as the three tunnel attributes."}
                  value={form.vlan}
                  onChange={(vlan) => set({ vlan: vlan.trim() })}
                  error={error}
                  local={badVLAN}
                />
                <TextField
                  label="Role"
                  field="role"
                  mono
                  hint={open || "Sent as Filter-Id."}
                  value={form.role}
                  onChange={(role) => set({ role })}
                  error={error}
                />
                <TextField
                  label="Session time-out, seconds"
                  field="sessionTimeout"
                  type="number"
                  min={0}
                  hint={form.sessionTimeout ? duration(form.sessionTimeout) : open || "0 is none."}
                  value={String(form.sessionTimeout)}
                  onChange={(v) => set({ sessionTimeout: Number(v) })}
                  error={error}
                />
                <div className="grid grid-cols-2 gap-3">
                  <Pick
                    label="At the end of the session"
                    field="atTimeout"
                    value={form.atTimeout}
                    onChange={(v) => set({ atTimeout: v as typeof form.atTimeout })}
                    error={error}
                    options={[
                      { value: "", label: "the session ends" },
                      { value: "sign-in-again", label: "sign in again" },
                    ]}
                  />
                  <TextField
                    label="Idle time-out, seconds"
                    field="idleTimeout"
                    type="number"
                    min={0}
                    hint={form.idleTimeout ? duration(form.idleTimeout) : "0 is none."}
                    value={String(form.idleTimeout)}
                    onChange={(v) => set({ idleTimeout: Number(v) })}
                    error={error}
                  />
                  <SessionLimit value={form} set={set} error={error} />
                  <TextField
                    label="Rate down, kbit/s"
                    field="rateDown"
                    type="number"
                    min={0}
                    hint="Sent in vendor-specific attributes."
                    value={String(form.rateDown)}
                    onChange={(v) => set({ rateDown: Number(v) })}
                    error={error}
                  />
                  <TextField
                    label="Rate up, kbit/s"
                    field="rateUp"
                    type="number"
                    min={0}
                    value={String(form.rateUp)}
                    onChange={(v) => set({ rateUp: Number(v) })}
                    error={error}
                  />
                  <TextField
                    label="Address"
                    field="address"
                    mono
                    hint="Or a template: {{person.ipPhone}}"
                    value={form.address}
                    onChange={(address) => set({ address })}
                    error={error}
                  />
                  <TextField
                    label="Report sessions as"
                    field="reportName"
                    mono
                    hint="Such as {{person.mail}}"
                    value={form.reportName}
                    onChange={(reportName) => set({ reportName })}
                    error={error}
                  />
                </div>
                <Pick
                  label="Address from pool"
                  search="pools"
                  field="pool"
                  hint="One address per session, until its time-out."
                  value={form.pool}
                  onChange={(pool) => set({ pool })}
                  error={error}
                  options={[
                    { value: "", label: "no pool" },
                    ...pools.map((p) => ({ value: p.name, label: `${p.name}, ${p.size} addresses` })),
                  ]}
                />
                <Missing
                  noun="pool"
                  kind="pools"
                  fields={[
                    { key: "name", label: "Name of the pool" },
                    { key: "ranges", label: "Its prefix, or first-last address" },
                  ]}
                  body={(v) => ({ name: v.name, ranges: v.ranges.split(/[\s,]+/), note: "" })}
                  made={(pool) => set({ pool })}
                />
                <TextField
                  label="Class"
                  field="class"
                  mono
                  hint="Returned in the accounting of the session."
                  value={form.class}
                  onChange={(v) => set({ class: v })}
                  error={error}
                />
                <LinesField
                  label="Access rules"
                  field="accessRules"
                  rows={2}
                  hint="One per line, such as permit in ip from any to 192.0.2.0/24. Sent as NAS-Filter-Rule."
                  value={form.accessRules}
                  onChange={(accessRules) => set({ accessRules })}
                  error={error}
                />
                <Field
                  label="Further attributes"
                  name="attributes"
                  error={error}
                  hint={
                    <>By standard or vendor name. Values may be templates, such as {'{{person.mail or "none"}}'}.</>
                  }
                >
                  {(p) => (
                    <div id={p.id}>
                      {form.attributes.map((a, i) => (
                        <div key={i} className="mb-1 flex gap-1">
                          <input
                            aria-label="Attribute"
                            list="dictionary"
                            className="field mono"
                            value={a.name}
                            onChange={(e) => row(i, { name: e.target.value })}
                            placeholder="Idle-Timeout"
                          />
                          <input
                            aria-label="Value"
                            className="field mono"
                            value={a.value}
                            onChange={(e) => row(i, { value: e.target.value })}
                            list={`values-${i}`}
                          />
                          <datalist id={`values-${i}`}>
                            {dictionary.data?.items
                              .find((d) => d.name === a.name)
                              ?.values.map((v) => (
                                <option key={v}>{v}</option>
                              ))}
                          </datalist>
                          <Button
                            aria-label="Remove"
                            onClick={() => set({ attributes: form.attributes.filter((_, j) => j !== i) })}
                          >
                            ×
                          </Button>
                        </div>
                      ))}
                      <Button onClick={() => set({ attributes: [...form.attributes, { name: "", value: "" }] })}>
                        Add attribute
                      </Button>
                      <datalist id="dictionary">
                        {dictionary.data?.items
                          .filter((d) => d.reply)
                          .map((d) => (
                            <option key={d.name}>{d.name}</option>
                          ))}
                      </datalist>
                    </div>
                  )}
                </Field>
                <details className="mb-3" open={!!form.privilegeLevel || !!form.commands || form.arguments.length > 0}>
                  <summary className="mb-1 cursor-pointer text-[12.5px] font-semibold">
                    For the command line of network gear
                  </summary>
                  <div className="mt-2 grid grid-cols-2 gap-3">
                    <TextField
                      label="Privilege level"
                      field="privilegeLevel"
                      type="number"
                      min={0}
                      max={15}
                      hint={open || "0 to 15; empty says nothing."}
                      value={form.privilegeLevel}
                      onChange={(privilegeLevel) => set({ privilegeLevel })}
                      error={error}
                    />
                    <Pick
                      label="Command list"
                      search="command-lists"
                      field="commands"
                      hint={
                        !form.commands && !form.extends ? "Without a list, no command is permitted." : open || undefined
                      }
                      value={form.commands}
                      onChange={(commands) => set({ commands })}
                      error={error}
                      options={[
                        { value: "", label: form.extends ? "as extended" : "no list" },
                        ...lists.map((l) => ({ value: l.name, label: l.name })),
                      ]}
                    />
                  </div>
                  <Arguments list={form.arguments} onChange={(list) => set({ arguments: list })} error={error} />
                </details>
                <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
              </>
            )}
          </Editor>
        </div>
        <section aria-label="Reply" className="border-l border-hair pl-8">
          <h2 className="mb-1">What the device gets</h2>
          <p className="mb-2 text-soft">The attributes of the Access-Accept, and each as it goes over the wire.</p>
          <table className="grid-table">
            <tbody>
              {preview.data?.reply.map((r, i) => (
                <tr key={i}>
                  <td className="mono">
                    {r.name}
                    <div className="text-[11px] text-soft">{r.place}</div>
                  </td>
                  <td className="mono">{r.value}</td>
                  <td className="mono text-[11px] text-soft">{r.hex || "made for each attempt"}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {(form.privilegeLevel || form.commands || form.arguments.length > 0 || form.extends) &&
            (preview.data?.gear.length ?? 0) > 0 && (
              <>
                <h2 className="mt-4 mb-1">What network gear gets over TACACS+</h2>
                <table className="grid-table">
                  <tbody>
                    {preview.data?.gear.map((g, i) => (
                      <tr key={i}>
                        <td className="mono">
                          {g.name}
                          <div className="text-[11px] text-soft">{g.place}</div>
                        </td>
                        <td className="mono">{g.value}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </>
            )}
          {preview.data?.reply.length === 0 && <p>Nothing: the port stays as it is.</p>}
          {preview.data?.faults.map((f, i) => (
            <p key={i} className="mt-1 text-out">
              {f.message}. {f.remedy}
            </p>
          ))}
        </section>
      </div>
    </>
  );
}

/** Arguments that go to gear over TACACS+. */
export function Arguments({
  list,
  onChange,
  error,
}: {
  list: Schema["ConfigArgument"][];
  onChange: (list: Schema["ConfigArgument"][]) => void;
  error: unknown;
}) {
  const row = (i: number, patch: Partial<Schema["ConfigArgument"]>) =>
    onChange(list.map((a, j) => (j === i ? { ...a, ...patch } : a)));
  return (
    <Field
      label="Further arguments"
      name="arguments"
      error={error}
      hint="For the shell service, or another such as ppp. Devices ignore optional arguments that they do not know."
    >
      {(p) => (
        <div id={p.id}>
          {list.map((a, i) => (
            <div key={i} className="mb-1 grid items-center md:grid-cols-[80px_1fr_1fr_auto_auto] gap-1">
              <input
                aria-label="Service"
                className="field mono"
                value={a.service ?? ""}
                placeholder="shell"
                onChange={(e) => row(i, { service: e.target.value })}
              />
              <input
                aria-label="Argument"
                className="field mono"
                value={a.name}
                placeholder="acl"
                onChange={(e) => row(i, { name: e.target.value })}
              />
              <input
                aria-label="Value of the argument"
                className="field mono"
                value={a.value}
                onChange={(e) => row(i, { value: e.target.value })}
              />
              <label className="flex items-center gap-1 text-[12.5px]">
                <input
                  type="checkbox"
                  checked={!!a.optional}
                  onChange={(e) => row(i, { optional: e.target.checked })}
                />
                optional
              </label>
              <Button aria-label="Remove argument" onClick={() => onChange(list.filter((_, j) => j !== i))}>
                ×
              </Button>
            </div>
          ))}
          <Button onClick={() => onChange([...list, { name: "", value: "" }])}>Add argument</Button>
        </div>
      )}
    </Field>
  );
}
