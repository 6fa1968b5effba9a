import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { call, type Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { Button, Empty, Failure, Notice, sentence, Verdict } from "../../ui/basic";
import { TextField } from "../../ui/form";
import { NameField } from "../../ui/name-field";
import { Pick } from "../../ui/pick";

const asks: [string, string][] = [
  ["login", "sign in"],
  ["enable", "enable, a higher level"],
  ["password", "change the password"],
  ["shell", "what a shell gets"],
  ["command", "a command"],
  ["start", "report a start"],
  ["update", "report an update"],
  ["stop", "report a stop"],
  ["other", "another service"],
];
const methods: [string, string][] = [
  ["ascii", "ASCII dialogue"],
  ["pap", "PAP"],
  ["chap", "CHAP"],
  ["mschap", "MS-CHAP"],
  ["mschapv2", "MS-CHAPv2"],
];

/** Whether a client speaks TACACS+. */
const gear = (c: Schema["Client"]) => c.tacacsSecretSet || c.tacacsPlain || c.tlsNames.length > 0;

/** Asks over TACACS+ as network gear would; it walks the real road and is recorded. */
export function TryGear({ client: first }: { client: string }) {
  const queries = useQueryClient();
  const clients = useObjects("clients").data?.items ?? [];
  const [form, setForm] = useState({
    client: (first || undefined) as string | undefined,
    ask: "login",
    method: "ascii",
    user: "",
    password: "",
    code: "",
    newPassword: "",
    level: "15",
    command: "show version",
    service: "ppp",
    args: "",
    from: "192.0.2.77",
    port: "vty0",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const client = form.client ?? clients.find(gear)?.name ?? clients[0]?.name ?? "";
  const proves = ["login", "enable", "password"].includes(form.ask);
  const reports = ["start", "update", "stop"].includes(form.ask);
  const run = useMutation({
    mutationFn: () =>
      call<Schema["GearTrialResult"]>("POST", "/gear-trials", {
        client,
        ask: form.ask === "other" ? form.service : form.ask,
        user: form.user,
        from: form.from,
        port: form.port,
        level: proves && form.ask !== "enable" ? 1 : Number(form.level) || 0,
        ...(proves
          ? {
              method: form.ask === "password" ? "ascii" : form.method,
              password: form.password,
              code: form.code,
              newPassword: form.newPassword,
            }
          : {}),
        ...(form.ask === "command" || reports ? { command: form.command } : {}),
        args: form.args
          .split("\n")
          .map((a) => a.trim())
          .filter(Boolean),
      }),
    onSuccess: () => setTimeout(() => queries.invalidateQueries(), 300),
  });
  const r = run.data;
  const options = (list: [string, string][]) => list.map(([value, label]) => ({ value, label }));
  return (
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
          onChange={(v) => set({ client: v })}
          error={run.error}
          fits={gear}
        />
        <Pick
          label="Ask"
          field="ask"
          value={form.ask}
          onChange={(ask) => set({ ask })}
          error={run.error}
          options={options(asks)}
        />
        {form.ask === "other" && (
          <TextField label="Service" mono value={form.service} onChange={(service) => set({ service })} />
        )}
        <TextField
          label="Name"
          field="user"
          mono
          value={form.user}
          onChange={(user) => set({ user })}
          error={run.error}
        />
        {proves && form.ask !== "password" && (
          <Pick
            label="By"
            field="method"
            value={form.method}
            onChange={(method) => set({ method })}
            error={run.error}
            options={options(methods)}
          />
        )}
        {proves && (
          <TextField
            label="Password"
            type="password"
            value={form.password}
            onChange={(password) => set({ password })}
            autoComplete="new-password"
          />
        )}
        {proves && (form.ask === "password" || form.method === "ascii" || form.method === "pap") && (
          <TextField
            label="One-time code, if one is asked for"
            mono
            value={form.code}
            onChange={(code) => set({ code })}
            autoComplete="one-time-code"
          />
        )}
        {proves && (form.ask === "password" || form.method === "ascii") && (
          <TextField
            label="New password, if one is asked for"
            type="password"
            value={form.newPassword}
            onChange={(newPassword) => set({ newPassword })}
            autoComplete="new-password"
          />
        )}
        {(form.ask === "command" || reports) && (
          <TextField
            label="Command"
            field="command"
            mono
            value={form.command}
            onChange={(command) => set({ command })}
            error={run.error}
          />
        )}
        <div className="grid grid-cols-2 gap-3">
          {(form.ask === "enable" || !proves) && (
            <TextField
              label="Level"
              field="level"
              type="number"
              min={0}
              max={15}
              value={form.level}
              onChange={(level) => set({ level })}
              error={run.error}
            />
          )}
          <TextField label="Comes from" mono value={form.from} onChange={(from) => set({ from })} />
        </div>
        {!proves && (
          <details className="mb-3">
            <summary className="cursor-pointer text-[12.5px] font-semibold">Further arguments</summary>
            <textarea
              aria-label="Further arguments"
              rows={3}
              className="field mono mt-1 block"
              value={form.args}
              onChange={(e) => set({ args: e.target.value })}
              placeholder="protocol=ip"
              spellCheck={false}
            />
          </details>
        )}
        <Button primary type="submit" disabled={run.isPending || !form.user}>
          {run.isPending ? "Asking …" : "Ask"}
        </Button>
      </form>
      <div aria-live="polite">
        <Failure error={run.error} />
        {!r && !run.error && (
          <Empty title="No request sent yet">The dialogue appears here as the device sees it.</Empty>
        )}
        {r && (
          <>
            <div className="mb-2 flex items-baseline gap-4">
              {r.status && (
                <Verdict kind={r.passed ? "in" : "out"}>
                  {r.passed ? (reports ? "recorded" : "admitted") : "refused"}
                </Verdict>
              )}
              <span className="text-soft">
                {r.status || "no answer"}
                {r.status && `, ${(r.took / 1e6).toFixed(1)} ms`}
              </span>
              <Link
                className="ml-auto underline"
                to={
                  reports
                    ? `/journal?user=${encodeURIComponent(form.user)}`
                    : `/attempts?q=${encodeURIComponent(form.user)}`
                }
              >
                {reports ? "In the journal" : "Its road"}
              </Link>
            </div>
            {r.fault && (
              <div className="mb-2">
                <Notice tone="out">
                  <b>The device says:</b> {sentence(r.fault)}
                </Notice>
              </div>
            )}
            {r.message && (
              <p className="mb-3">
                The person reads: <b className="whitespace-pre-line">{r.message}</b>
              </p>
            )}
            <h2 className="mb-1">Round by round, as the device saw it</h2>
            <table className="grid-table mb-4">
              <tbody>
                {r.rounds.map((x, i) => (
                  <tr key={i}>
                    <td className="mono w-20 text-right text-soft">{(x.micros / 1000).toFixed(1)} ms</td>
                    <td className="w-24">{x.from === "peer" ? "device →" : "← server"}</td>
                    <td className="mono [overflow-wrap:anywhere]">{x.text}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {r.args.length > 0 && (
              <>
                <h2 className="mb-1">Arguments of the reply</h2>
                <table className="grid-table">
                  <tbody>
                    {r.args.map((a) => (
                      <tr key={a}>
                        <td className="mono">{a}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </>
            )}
          </>
        )}
      </div>
    </div>
  );
}
