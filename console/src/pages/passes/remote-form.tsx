import { useState } from "react";

import type { Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { Button, PageHead, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { LinesField, lines, NumberField, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { PeerFields } from "../../ui/peer";
import { Sent } from "../system/feeds";
import { Machines } from "./machines";

type Remote = Schema["Remote"];
type Server = Schema["ConfigRemoteServer"];

/** A machine with its weight, as it is typed. */
export const shown = (s: Server) => s.address + (s.weight && s.weight > 1 ? ` *${s.weight}` : "");

const read = (line: string): Server => {
  const [address = "", weight = "1"] = line.split("*");
  return { address: address.trim(), weight: Number(weight) || 0 };
};

export function RemoteForm({ remote: r }: { remote?: Remote }) {
  const [form, setForm] = useState({
    name: r?.name ?? "",
    servers: r?.servers.map(shown) ?? [],
    weighted: r?.weighted ?? false,
    transport: r?.transport ?? "udp",
    ca: r?.ca ?? "",
    serverName: r?.serverName ?? "",
    certificate: r?.certificate ?? "",
    secret: "",
    timeoutMillis: r?.timeoutMillis ?? 2000,
    tries: r?.tries ?? 2,
    deadSeconds: r?.deadSeconds ?? 30,
    probeSeconds: r?.probeSeconds ?? 20,
    unsigned: r?.unsigned ?? false,
    accounting: r?.accounting ?? false,
    accountingPort: r?.accountingPort ?? 0,
    rules: r?.rules ?? [],
    grants: r?.grants ?? [],
    pass: r?.pass ?? "",
    note: r?.note ?? "",
  });
  const tls = form.transport !== "udp";
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const passes = useObjects("passes", "", 5_000).data?.items ?? [];
  const body = () => ({
    ...form,
    servers: lines(form.servers).map(read),
    grants: lines(form.grants),
    secret: form.secret || undefined,
  });
  return (
    <div className="max-w-[640px]">
      <Trail to="/remotes" of="Remote servers">
        {r?.name ?? "new"}
      </Trail>
      <PageHead
        title={r?.name ?? "Add remote server"}
        lead={r && (r.usedBy.length ? `lanes ${r.usedBy.join(", ")} forward to it` : "no lane forwards to it yet")}
      />
      {r && <Problems list={r.problems} />}
      {r && <Machines states={r.states} />}
      {r && <Sent states={r.sent} />}
      <Editor kind="remotes" noun="remote server" object={r} body={body} onSaved={() => set({ secret: "" })}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <LinesField
              label="Servers"
              field="servers"
              hint="One address per line, in the order to ask them; add the port unless it is the usual one, and *3 for three shares of the requests."
              value={form.servers}
              onChange={(servers) => set({ servers })}
              error={error}
              rows={2}
            />
            <Tick
              label="Share requests out by weight, instead of asking the first that answers"
              checked={form.weighted}
              onChange={(weighted) => set({ weighted })}
            />
            <Pick
              label="Transport"
              field="transport"
              value={form.transport}
              onChange={(v) => set({ transport: v as typeof form.transport })}
              error={error}
              options={[
                { value: "udp", label: "UDP, with a shared secret" },
                { value: "tls", label: "TLS, with certificates on both sides" },
                { value: "dtls", label: "DTLS, with certificates on both sides" },
              ]}
            />
            {tls ? (
              <PeerFields value={form} set={set} error={error} none="choose one" />
            ) : (
              <TextField
                label="Shared secret"
                field="secret"
                type="password"
                hint={
                  r?.secretSet ? "A secret is set; leave empty to keep it." : "The secret that it has for this server."
                }
                value={form.secret}
                onChange={(secret) => set({ secret })}
                error={error}
                autoComplete="new-password"
              />
            )}
            <div className="grid grid-cols-2 gap-3">
              <NumberField
                label="Time-out per try (ms)"
                field="timeoutMillis"
                value={form.timeoutMillis}
                onChange={(v) => set({ timeoutMillis: v })}
                error={error}
              />
              <NumberField
                label="Tries"
                field="tries"
                value={form.tries}
                onChange={(v) => set({ tries: v })}
                error={error}
              />
              <NumberField
                label="Asked last after no answer (s)"
                field="deadSeconds"
                value={form.deadSeconds}
                onChange={(v) => set({ deadSeconds: v })}
                error={error}
              />
              <NumberField
                label="Asked by Status-Server every (s), 0 for never"
                field="probeSeconds"
                value={form.probeSeconds}
                onChange={(v) => set({ probeSeconds: v })}
                error={error}
              />
            </div>
            <Tick
              label="Send it the accounting of the lanes that forward to it, too"
              checked={form.accounting}
              onChange={(accounting) => set({ accounting })}
            />
            {form.accounting && !tls && (
              <NumberField
                label="Its port for accounting"
                field="accountingPort"
                hint="0 is 1813."
                value={form.accountingPort}
                onChange={(v) => set({ accountingPort: v })}
                error={error}
              />
            )}
            <Rules value={form.rules} onChange={(rules) => set({ rules })} error={error} />
            <LinesField
              label="Attributes it may grant"
              field="grants"
              hint="One per line, such as Tunnel-Private-Group-ID; * for all. Others are removed from its answers, except time-outs and messages."
              value={form.grants}
              onChange={(grants) => set({ grants })}
              error={error}
              rows={2}
            />
            <Pick
              label="Pass that overrides its answers"
              search="passes"
              field="pass"
              value={form.pass}
              onChange={(pass) => set({ pass })}
              error={error}
              options={[{ value: "", label: "none" }, ...passes.map((p) => ({ value: p.name, label: p.name }))]}
            />
            {!tls && (
              <Tick
                label="Accept answers without Message-Authenticator, which can be forged"
                checked={form.unsigned}
                onChange={(unsigned) => set({ unsigned })}
              />
            )}
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
    </div>
  );
}

type Rule = Schema["ConfigRemoteRule"];

/** What is changed in requests to a remote server, and in its answers. */
function Rules({ value, onChange, error }: { value: Rule[]; onChange: (v: Rule[]) => void; error: unknown }) {
  const change = (i: number, patch: Partial<Rule>) => onChange(value.map((r, j) => (i === j ? { ...r, ...patch } : r)));
  return (
    <fieldset className="mb-4">
      <legend className="mb-1 text-[13px] font-semibold">Attributes that are changed on the way</legend>
      {value.map((r, i) => (
        <div key={i} className="mb-2 grid grid-cols-2 gap-x-3 border-l-2 border-hair pl-3">
          <Pick
            label={`Rule ${i + 1} works on`}
            value={r.on}
            onChange={(on) => change(i, { on: on as Rule["on"] })}
            options={[
              { value: "request", label: "requests" },
              { value: "answer", label: "answers" },
            ]}
          />
          <Pick
            label="and"
            value={r.do}
            onChange={(v) => change(i, { do: v as Rule["do"] })}
            options={[
              { value: "add", label: "adds" },
              { value: "drop", label: "drops" },
              { value: "rewrite", label: "rewrites" },
            ]}
          />
          <TextField
            label="Attribute"
            field={`rules[${i}].attribute`}
            value={r.attribute}
            onChange={(attribute) => change(i, { attribute })}
            error={error}
          />
          {r.do !== "add" && (
            <TextField
              label="if its value matches"
              field={`rules[${i}].match`}
              mono
              hint="Regular expression; empty is any."
              value={r.match ?? ""}
              onChange={(match) => change(i, { match })}
              error={error}
            />
          )}
          {r.do !== "drop" && (
            <TextField
              label={r.do === "add" ? "Value" : "New value"}
              field={`rules[${i}].value`}
              mono
              hint={r.do === "rewrite" ? "$1 is the first group of the expression." : ""}
              value={r.value ?? ""}
              onChange={(v) => change(i, { value: v })}
              error={error}
            />
          )}
          <div className="self-end pb-4">
            <Button onClick={() => onChange(value.filter((_, j) => j !== i))}>Remove rule {i + 1}</Button>
          </div>
        </div>
      ))}
      <Button onClick={() => onChange([...value, { on: "request", do: "add", attribute: "" }])}>Add rule</Button>
    </fieldset>
  );
}
