import { blank, type Client } from "./client";
import { LinesField, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";

export type ChangeSecret = { how: string; secret: string };

/** How the accounting of the client is taken, and how its sessions are changed. */
export function SessionSection({
  client,
  form,
  set,
  secret,
  setSecret,
  error,
}: {
  client?: Client;
  form: typeof blank;
  set: (patch: Partial<typeof blank>) => void;
  secret: ChangeSecret;
  setSecret: (s: ChangeSecret) => void;
  error: unknown;
}) {
  const s = form.sessions;
  const put = (patch: Partial<typeof s>) => set({ sessions: { ...s, ...patch } });
  return (
    <details className="mb-3" open={Object.keys(s).length > 0 || !!client?.changeSecretSet}>
      <summary className="mb-1 cursor-pointer text-[12.5px] font-semibold">Accounting and changes on the fly</summary>
      <div className="mt-2">
        <Pick
          label="Accounting"
          field="sessions.accounting"
          value={s.accounting ?? "record"}
          onChange={(v) => put({ accounting: v as "record" | "answer" })}
          error={error}
          options={[
            { value: "record", label: "record it, and show its sessions" },
            { value: "answer", label: "answer it and drop it" },
          ]}
        />
        <TextField
          label="A session counts as over after this many minutes without a word"
          field="sessions.silenceMinutes"
          type="number"
          hint="0 is a day. Use more than two intervals of the device's interim records."
          value={String(s.silenceMinutes ?? 0)}
          onChange={(v) => put({ silenceMinutes: Number(v) })}
          error={error}
        />
        <TextField
          label="Address for disconnects and changes"
          field="sessions.changeAddress"
          mono
          hint="If left empty, the address that accounting comes from."
          value={s.changeAddress ?? ""}
          onChange={(changeAddress) => put({ changeAddress })}
          error={error}
        />
        <Tick
          label="Send disconnects and changes over TLS"
          checked={s.changeTls ?? false}
          onChange={(changeTls) => put({ changeTls })}
        />
        <TextField
          label="Port for disconnects and changes"
          field="sessions.changePort"
          type="number"
          hint="0 is 3799; -1 sends it none."
          value={String(s.changePort ?? 0)}
          onChange={(v) => put({ changePort: Number(v) })}
          error={error}
        />
        <Pick
          label="Secret for disconnects and changes"
          field="changeSecret"
          value={secret.how}
          onChange={(how) => setSecret({ ...secret, how })}
          error={error}
          options={[
            { value: "keep", label: client?.changeSecretSet ? "Keep the present one" : "The shared secret" },
            ...(client?.changeSecretSet ? [{ value: "none", label: "The shared secret" }] : []),
            { value: "type", label: "Enter the secret that is set on the device" },
          ]}
        />
        {secret.how === "type" && (
          <TextField
            label="Secret for changes"
            mono
            type="password"
            value={secret.secret}
            onChange={(v) => setSecret({ ...secret, secret: v })}
            error={error}
            field="changeSecret"
            autoComplete="new-password"
          />
        )}
        <Pick
          label="To authenticate a session again"
          field="sessions.reauthenticate"
          value={s.reauthenticate ?? "timeout"}
          onChange={(v) => put({ reauthenticate: v as "timeout" })}
          error={error}
          options={[
            { value: "timeout", label: "change its Session-Timeout to a second" },
            { value: "disconnect", label: "disconnect it: the device comes again" },
          ]}
        />
        <LinesField
          label="Attributes that name a session to it"
          field="sessions.identify"
          hint="One per line. If left empty: User-Name, NAS-IP-Address, NAS-Identifier, Calling-Station-Id, Acct-Session-Id."
          value={s.identify ?? []}
          onChange={(identify) => put({ identify })}
          error={error}
        />
      </div>
    </details>
  );
}
