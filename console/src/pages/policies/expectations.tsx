import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useMethods, useObject, useObjects } from "../../api/hooks";
import { Button, ButtonLink, Empty, Failure, PageHead, rowKeys, sentence, Trail, Verdict } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, TextField } from "../../ui/form";
import { NameField } from "../../ui/name-field";
import { Pick } from "../../ui/pick";
import { MomentField } from "../../ui/moment";
import { useRecorded } from "../../api/recorded";
import { DryRun } from "../clients/try-result";

/** What can be expected: a sign-in over RADIUS, or what gear asks over TACACS+. */
const asks: [string, string][] = [
  ["", "a sign-in over RADIUS"],
  ["login", "TACACS+: sign in"],
  ["enable", "TACACS+: enable, a higher level"],
  ["shell", "TACACS+: a shell"],
  ["command", "TACACS+: a command"],
];

type Expectation = Schema["Expectation"];

export const useExpected = () =>
  useQuery({ queryKey: ["expected"], queryFn: () => call<Schema["AllExpected"]>("GET", "/expectations-check") });

/** What has to stay as it is, tried under the draft. */
export function ExpectationsPage() {
  const list = useObjects("expectations");
  const checked = useExpected();
  const go = useNavigate();
  const of = (id: string) => checked.data?.items.find((e) => e.id === id);
  return (
    <>
      <PageHead
        title="Expectations"
        lead={
          checked.data &&
          (checked.data.failed === 0
            ? "under the draft, none fails"
            : `${checked.data.failed} would not be met by the draft`)
        }
      >
        <Button onClick={() => checked.refetch()} disabled={checked.isFetching}>
          Check again
        </Button>
        <ButtonLink primary to="/expectations/new">
          Add expectation
        </ButtonLink>
      </PageHead>
      <p className="mb-3 max-w-[820px] text-soft">
        Every publish checks these first, for the people as they are now and with a correct password or certificate
        assumed. Publishing stops, and asks, if an expectation fails.
      </p>
      <Failure error={list.error ?? checked.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No expectation yet">
          State what must stay true: this person, through this client, gets that VLAN. From then on nobody breaks it by
          mistake.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Who</th>
              <th>Through</th>
              <th>Wanted</th>
              <th>Under the draft</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((e) => {
              const c = of(e.id);
              return (
                <tr key={e.id} {...rowKeys(() => go(`/expectations/${e.id}`))}>
                  <td className="font-semibold">{e.name}</td>
                  <td className="mono">{e.sent}</td>
                  <td>
                    {e.client},{" "}
                    {e.command ? (
                      <code className="mono">{e.command}</code>
                    ) : e.asks ? (
                      `${e.asks}${e.asks === "enable" ? ` ${e.level}` : ""}`
                    ) : (
                      e.method
                    )}
                  </td>
                  <td>{c?.wanted}</td>
                  <td>
                    {!c ? (
                      ""
                    ) : (
                      <>
                        {c.state === "met" ? (
                          <Verdict kind="in">met</Verdict>
                        ) : c.state === "failed" ? (
                          <Verdict kind="out">failed</Verdict>
                        ) : (
                          <Verdict kind="wait">not checked</Verdict>
                        )}
                        {c.state !== "met" && (
                          <div className="text-[12.5px]">
                            {c.got && <>It would be: {c.got}. </>}
                            <span className="text-soft">{sentence(c.sentence)}</span>
                          </div>
                        )}
                      </>
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
    </>
  );
}

export function ExpectationPage() {
  const { id = "" } = useParams();
  const one = useObject("expectations", id);
  const [params] = useSearchParams();
  const from = params.get("attempt");
  const taken = useRecorded(from);
  if (id === "new" && from && !taken) return <PageHead title="Add expectation" />;
  if (id === "new") return <ExpectationForm taken={taken} />;
  if (!one.data)
    return (
      <>
        <PageHead title="Expectation" />
        <Failure error={one.error} />
      </>
    );
  return <ExpectationForm key={one.data.id} expectation={one.data} />;
}

function ExpectationForm({
  expectation: e,
  taken,
}: {
  expectation?: Expectation;
  taken?: ReturnType<typeof useRecorded>;
}) {
  const passes = useObjects("passes");
  const methods = useMethods().data?.items ?? [];
  const [form, setForm] = useState({
    name: e?.name ?? (taken ? `${taken.person || taken.sent} on ${taken.where || taken.client}` : ""),
    sent: e?.sent ?? taken?.sent ?? "",
    client: e?.client ?? taken?.client ?? "",
    method: e?.method ?? taken?.method ?? "pap",
    asks: e?.asks ?? taken?.asks ?? "",
    command: e?.command ?? taken?.command ?? "",
    level: e?.level ?? taken?.level ?? 0,
    attributes: e?.attributes ?? taken?.attributes ?? [{ name: "NAS-Port-Type", value: "Ethernet" }],
    at: e?.at && !e.at.startsWith("0001") ? e.at : undefined,
    admitted: e?.admitted ?? (taken ? taken.verdict === "admitted" : true),
    pass: e?.pass ?? taken?.pass ?? "",
    vlan: e?.vlan ?? taken?.vlan ?? "",
    reason: e?.reason ?? (taken && taken.verdict !== "admitted" ? taken.reason : ""),
    note: e?.note ?? "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const proves = form.asks === "login" || form.asks === "enable";
  const ask = (asks: string) =>
    set({
      asks,
      command: asks === "command" ? form.command || "show version" : "",
      level: asks === "enable" ? form.level || 15 : 0,
      method: ["pap", "chap", "mschap", "mschapv2"].includes(form.method) ? form.method : "pap",
      ...(asks ? { attributes: [], vlan: "" } : {}),
    });
  const dryRun = useMutation({ mutationFn: () => call<Schema["DryRun"]>("POST", "/dry-run", form) });
  const row = (i: number, patch: Partial<Schema["ConfigAttribute"]>) =>
    set({ attributes: form.attributes.map((a, j) => (j === i ? { ...a, ...patch } : a)) });
  return (
    <div className="max-w-[1000px]">
      <Trail to="/expectations" of="Expectations">
        {e?.name ?? "new"}
      </Trail>
      <PageHead title={e?.name ?? "Add expectation"} />
      {e && <Problems list={e.problems} />}
      <Editor kind="expectations" noun="expectation" object={e} body={() => form}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <TextField
              label="Name sent"
              field="sent"
              mono
              hint="As the device sends it; for MAC bypass, the MAC address."
              value={form.sent}
              onChange={(sent) => set({ sent })}
              error={error}
            />
            <div className="grid grid-cols-2 gap-3">
              <NameField
                kind="clients"
                name="client"
                label="Through"
                value={form.client}
                onChange={(client) => set({ client })}
                error={error}
              />
              <Pick
                label="Asks"
                field="asks"
                value={form.asks}
                onChange={ask}
                error={error}
                options={[
                  ...asks,
                  ...(asks.some(([v]) => v === form.asks) ? [] : [[form.asks, `the service ${form.asks}`]]),
                ].map(([value, label]) => ({ value, label }))}
              />
            </div>
            {form.asks === "command" ? (
              <TextField
                label="Command"
                field="command"
                mono
                value={form.command}
                onChange={(command) => set({ command })}
                error={error}
              />
            ) : (
              (!form.asks || proves) && (
                <div className="grid grid-cols-2 gap-3">
                  <Pick
                    label="Method"
                    field="method"
                    value={form.method}
                    onChange={(method) => set({ method })}
                    error={error}
                    options={methods
                      .filter((m) => !form.asks || ["pap", "chap", "mschap", "mschapv2"].includes(m.name))
                      .map((m) => ({ value: m.name, label: m.title }))}
                  />
                  {form.asks === "enable" && (
                    <TextField
                      label="Level"
                      field="level"
                      type="number"
                      min={0}
                      max={15}
                      value={String(form.level)}
                      onChange={(v) => set({ level: Number(v) })}
                      error={error}
                    />
                  )}
                </div>
              )
            )}
            {!form.asks && (
              <Field label="Attributes of the request" name="attributes" error={error}>
                {(p) => (
                  <div id={p.id}>
                    {form.attributes.map((a, i) => (
                      <div key={i} className="mb-1 flex gap-1">
                        <input
                          aria-label={`Attribute ${i + 1}`}
                          className="field mono"
                          value={a.name}
                          onChange={(x) => row(i, { name: x.target.value })}
                          placeholder="Called-Station-Id"
                        />
                        <input
                          aria-label={`Its value ${i + 1}`}
                          className="field mono"
                          value={a.value}
                          onChange={(x) => row(i, { value: x.target.value })}
                        />
                        <Button
                          aria-label={`Remove attribute ${i + 1}`}
                          onClick={() => set({ attributes: form.attributes.filter((_, j) => j !== i) })}
                        >
                          ×
                        </Button>
                      </div>
                    ))}
                    <Button onClick={() => set({ attributes: [...form.attributes, { name: "", value: "" }] })}>
                      Add attribute
                    </Button>
                  </div>
                )}
              </Field>
            )}
            <MomentField
              label="Tried for"
              field="at"
              hint="If left empty, the time of the check."
              value={form.at}
              onChange={(at) => set({ at })}
              error={error}
            />
            <Pick
              label="Expected result"
              value={form.admitted ? "admitted" : "refused"}
              onChange={(v) =>
                set(v === "admitted" ? { admitted: true, reason: "" } : { admitted: false, pass: "", vlan: "" })
              }
              options={[
                { value: "admitted", label: "admitted" },
                { value: "refused", label: "refused" },
              ]}
            />
            {form.admitted ? (
              <div className="grid grid-cols-2 gap-3">
                <Pick
                  label="With the pass"
                  search="passes"
                  field="pass"
                  value={form.pass}
                  onChange={(pass) => set({ pass })}
                  error={error}
                  options={[
                    { value: "", label: "any pass" },
                    ...(passes.data?.items.map((p) => ({ value: p.name, label: p.name })) ?? []),
                  ]}
                />
                {!form.asks && (
                  <TextField
                    label="In VLAN"
                    field="vlan"
                    mono
                    hint="Leave empty for any."
                    value={form.vlan}
                    onChange={(vlan) => set({ vlan })}
                    error={error}
                  />
                )}
              </div>
            ) : (
              <TextField
                label="For the reason"
                field="reason"
                mono
                hint="Such as policy.refused; leave empty for any."
                value={form.reason}
                onChange={(reason) => set({ reason })}
                error={error}
              />
            )}
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
      <section aria-label="The road" className="mt-5 border-t border-hair pt-3">
        <Button disabled={dryRun.isPending || !form.sent || !form.client} onClick={() => dryRun.mutate()}>
          Show the trace with the draft
        </Button>
        <div className="mt-3">
          <Failure error={dryRun.error} />
          {dryRun.data && <DryRun f={dryRun.data} />}
        </div>
      </section>
    </div>
  );
}
