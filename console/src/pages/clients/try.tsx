import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useMethods, useObjects } from "../../api/hooks";
import { useRecorded } from "../../api/recorded";
import { Button, Empty, Failure, PageHead } from "../../ui/basic";
import { Field, TextField, Tick } from "../../ui/form";
import { NameField } from "../../ui/name-field";
import { Pick } from "../../ui/pick";
import { TryGear } from "./try-gear";
import { DryRun, Result } from "./try-result";

/** Signs in as a device behind one of the clients would; it walks the real road and is recorded. */
export function TryPage() {
  const [params, setParams] = useSearchParams();
  const gear = params.get("protocol") === "tacacs";
  return (
    <>
      <PageHead
        title="Try"
        lead={
          gear
            ? "a question as network gear would ask it; it walks the real road, and is recorded as yours"
            : "a sign-in as a device would make it; it walks the real road, and is recorded as yours"
        }
      />
      <div role="group" aria-label="Protocol" className="mb-4 flex gap-1">
        {[
          ["radius", "RADIUS"],
          ["tacacs", "TACACS+"],
        ].map(([value, text]) => (
          <Button
            key={value}
            aria-pressed={gear === (value === "tacacs")}
            className={gear === (value === "tacacs") ? "!border-brass" : ""}
            onClick={() => setParams(value === "tacacs" ? { protocol: value } : {}, { replace: true })}
          >
            {text}
          </Button>
        ))}
      </div>
      {gear ? <TryGear client={params.get("client") ?? ""} /> : <TryRadius />}
    </>
  );
}

function TryRadius() {
  const [params] = useSearchParams();
  const taken = useRecorded(params.get("attempt"));
  const queries = useQueryClient();
  const clients = useObjects("clients").data?.items ?? [];
  const authorities = useObjects("authorities").data?.items ?? [];
  const methods = useMethods().data?.items ?? [];
  const [form, setForm] = useState({
    client: params.get("client") ?? undefined,
    method: params.get("method") ?? "peap-mschapv2",
    user: params.get("user") ?? "",
    password: "",
    newPassword: "",
    outer: "anonymous",
    bypass: "pap",
    place: "Ethernet",
    ssid: "",
    mac: "02-00-5E-10-00-01",
    trust: "",
    serverName: "",
    tls: "",
    resume: false,
    certificate: "",
    key: "",
    machine: "",
    machineCertificate: "",
    machineKey: "",
  });
  useEffect(() => {
    if (taken)
      setForm((f) => ({
        ...f,
        client: taken.client,
        user: taken.sent,
        method: taken.method,
        mac: taken.facts.mac ?? f.mac,
        place: taken.facts.portType ?? f.place,
        ssid: taken.facts.ssid ?? "",
      }));
  }, [taken]);
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const method = methods.find((m) => m.name === form.method);
  const client = form.client ?? clients.find((c) => c.secretSet)?.name ?? clients[0]?.name ?? "";
  const attributes = () =>
    [
      { name: "NAS-Port-Type", value: form.place },
      { name: "Calling-Station-Id", value: form.method === "mac" ? form.user : form.mac },
      ...(form.place.startsWith("Wireless")
        ? [{ name: "Called-Station-Id", value: `02-00-5E-00-00-01:${form.ssid}` }]
        : []),
      ...(form.place === "Ethernet" ? [{ name: "NAS-Port-Id", value: "1/0/1" }] : []),
    ].filter((a) => a.value);
  const run = useMutation({
    mutationFn: () =>
      call<Schema["TrialResult"]>("POST", "/trials", {
        client,
        method: form.method,
        user: form.user,
        password: form.password,
        newPassword: form.newPassword,
        bypass: form.bypass,
        attributes: attributes(),
        resume: form.resume,
        ...(method?.tls
          ? {
              outer: form.outer,
              ca: authorities.find((a) => a.name === form.trust)?.pem ?? "",
              serverName: form.serverName,
              tls: form.tls,
              certificate: form.certificate,
              key: form.key,
              machine: form.machine,
              machineCertificate: form.machineCertificate,
              machineKey: form.machineKey,
            }
          : {}),
      }),
    onSuccess: () => setTimeout(() => queries.invalidateQueries(), 300),
  });
  const dryRun = useMutation({
    mutationFn: () =>
      call<Schema["DryRun"]>("POST", "/dry-run", {
        sent: form.user,
        client,
        method: form.method,
        attributes: attributes(),
        admitted: true,
      }),
  });
  if (clients.length === 0)
    return (
      <Empty title="No client yet">
        Add the{" "}
        <Link className="underline" to="/clients/new">
          device
        </Link>{" "}
        through which somebody signs in.
      </Empty>
    );
  return (
    <>
      <div className="grid gap-8 *:min-w-0 lg:grid-cols-[340px_minmax(0,1fr)]">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            run.mutate();
          }}
        >
          <NameField
            kind="clients"
            name="client"
            label="Through"
            value={client}
            onChange={(client) => set({ client })}
            error={run.error}
            fits={(c) => c.secretSet || c.tlsNames.length > 0}
          />
          <Pick
            label="Method"
            field="method"
            value={form.method}
            onChange={(v) => set({ method: v })}
            error={run.error}
            options={methods.map((m) => ({ value: m.name, label: m.title }))}
          />
          <div className="grid grid-cols-2 gap-3">
            <Pick
              label="Place"
              value={form.place}
              onChange={(place) => set({ place })}
              options={[
                { value: "Ethernet", label: "wired port" },
                { value: "Wireless-802.11", label: "Wi-Fi" },
                { value: "Virtual", label: "VPN" },
              ]}
            />
            {form.place.startsWith("Wireless") ? (
              <TextField label="SSID" value={form.ssid} onChange={(ssid) => set({ ssid })} />
            ) : form.method === "mac" ? (
              <Pick
                label="Sent as"
                value={form.bypass}
                onChange={(bypass) => set({ bypass })}
                options={["pap", "chap", "eap-md5"].map((v) => ({ value: v, label: v }))}
              />
            ) : (
              <TextField label="From MAC" mono value={form.mac} onChange={(mac) => set({ mac })} />
            )}
          </div>
          <TextField
            label={form.method === "mac" ? "MAC address" : "Name"}
            field="user"
            mono
            value={form.user}
            onChange={(user) => set({ user })}
            error={run.error}
          />
          {method && method.needs !== "certificate" && method.needs !== "address" && (
            <TextField
              label="Password"
              field="password"
              type="password"
              value={form.password}
              onChange={(password) => set({ password })}
              error={run.error}
              autoComplete="new-password"
            />
          )}
          {form.method.endsWith("mschapv2") && form.method.includes("-") && (
            <TextField
              label="New password, if that has expired"
              field="newPassword"
              type="password"
              value={form.newPassword}
              onChange={(newPassword) => set({ newPassword })}
              error={run.error}
              autoComplete="new-password"
            />
          )}
          {method?.needs === "certificate" && (
            <Pem
              label="Client certificate, PEM"
              field="certificate"
              value={form.certificate}
              onChange={(certificate) => set({ certificate })}
              error={run.error}
            />
          )}
          {method?.needs === "certificate" && (
            <Pem label="Its key, PEM" field="key" value={form.key} onChange={(key) => set({ key })} error={run.error} />
          )}
          {method?.tls && (
            <details className="mb-3" open={!!form.trust || !!form.tls}>
              <summary className="mb-1 cursor-pointer text-[12.5px] font-semibold">How the device is set up</summary>
              <div className="mt-2">
                <TextField
                  label="Name shown outside the tunnel"
                  field="outer"
                  mono
                  value={form.outer}
                  onChange={(outer) => set({ outer })}
                  error={run.error}
                />
                <Pick
                  label="Trusts"
                  field="ca"
                  value={form.trust}
                  onChange={(trust) => set({ trust })}
                  error={run.error}
                  options={[
                    { value: "", label: "whatever it is shown" },
                    ...authorities.map((a) => ({ value: a.name, label: `authority ${a.name}` })),
                  ]}
                />
                <TextField
                  label="Expects the server name"
                  field="serverName"
                  mono
                  value={form.serverName}
                  onChange={(serverName) => set({ serverName })}
                  error={run.error}
                />
                <Pick
                  label="Speaks"
                  field="tls"
                  value={form.tls}
                  onChange={(tls) => set({ tls })}
                  error={run.error}
                  options={[
                    { value: "", label: "any TLS" },
                    ...["1.3", "1.2", "1.1", "1.0"].map((v) => ({ value: v, label: `only TLS ${v}` })),
                  ]}
                />
                <Tick
                  label="Keep the ticket and resume the session"
                  checked={form.resume}
                  onChange={(resume) => set({ resume })}
                />
                {form.method.startsWith("teap") && (
                  <>
                    <TextField
                      label="Name of the computer"
                      field="machine"
                      mono
                      value={form.machine}
                      onChange={(machine) => set({ machine })}
                      error={run.error}
                    />
                    <Pem
                      label="Certificate of the computer, PEM"
                      field="machineCertificate"
                      value={form.machineCertificate}
                      onChange={(machineCertificate) => set({ machineCertificate })}
                      error={run.error}
                    />
                    <Pem
                      label="Its key, PEM"
                      field="machineKey"
                      value={form.machineKey}
                      onChange={(machineKey) => set({ machineKey })}
                      error={run.error}
                    />
                  </>
                )}
              </div>
            </details>
          )}
          <div className="flex gap-2">
            <Button primary type="submit" disabled={run.isPending || !form.user}>
              {run.isPending ? "Signing in …" : "Sign in"}
            </Button>
            <Button
              disabled={dryRun.isPending || !form.user}
              onClick={() => {
                run.reset();
                dryRun.mutate();
              }}
            >
              Dry run with the draft
            </Button>
          </div>
        </form>
        <div aria-live="polite">
          <Failure error={run.error ?? dryRun.error} />
          {dryRun.data && !run.data ? (
            <DryRun f={dryRun.data} />
          ) : run.data ? (
            <Result r={run.data} user={form.user} />
          ) : (
            !run.error && (
              <Empty title="Nothing tried yet">
                The device's side of the conversation appears here, round by round.
              </Empty>
            )
          )}
        </div>
      </div>
    </>
  );
}

function Pem({
  label,
  field,
  value,
  onChange,
  error,
}: {
  label: string;
  field: string;
  value: string;
  onChange: (v: string) => void;
  error: unknown;
}) {
  return (
    <Field label={label} name={field} error={error}>
      {(p) => (
        <textarea
          {...p}
          rows={3}
          className="field mono block text-[12px]"
          value={value}
          onChange={(e) => onChange(e.target.value)}
          spellCheck={false}
        />
      )}
    </Field>
  );
}
