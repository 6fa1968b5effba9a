import { blank, type Client } from "./client";
import { TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";

export type GearSecret = { how: string; secret: string };

/** How the client speaks TACACS+. */
export function GearSection({
  client,
  form,
  set,
  gear,
  setGear,
  error,
}: {
  client?: Client;
  form: typeof blank;
  set: (patch: Partial<typeof blank>) => void;
  gear: GearSecret;
  setGear: (g: GearSecret) => void;
  error: unknown;
}) {
  const speaks = !!client?.tacacsSecretSet || form.tacacsPlain || form.tacacsByAddress;
  return (
    <details className="mb-3" open={speaks}>
      <summary className="mb-1 cursor-pointer text-[12.5px] font-semibold">TACACS+</summary>
      <div className="mt-2">
        <Pick
          label="TACACS+ secret"
          field="tacacsSecret"
          value={gear.how}
          onChange={(v) => setGear({ ...gear, how: v })}
          error={error}
          options={[
            ...(client ? [{ value: "keep", label: client.tacacsSecretSet ? "Keep the present one" : "None" }] : []),
            ...(!client || client.tacacsSecretSet ? [{ value: "none", label: client ? "Remove it" : "None" }] : []),
            { value: "generate", label: "Generate a TACACS+ secret, shown once" },
            { value: "type", label: "Enter the secret that is set on the device for TACACS+" },
          ]}
        />
        {gear.how === "type" && (
          <TextField
            label="Secret for TACACS+"
            mono
            type="password"
            value={gear.secret}
            onChange={(v) => setGear({ ...gear, secret: v })}
            error={error}
            field="tacacsSecret"
            autoComplete="new-password"
          />
        )}
        {client?.tacacsPreviousUntil && (
          <p className="hint mb-3">
            The previous TACACS+ secret is accepted until {new Date(client.tacacsPreviousUntil).toLocaleString()}.
          </p>
        )}
        <Tick
          label="Accept TACACS+ over TLS by its address alone, without a certificate (anyone using that address is accepted as this client)"
          checked={form.tacacsByAddress}
          onChange={(tacacsByAddress) => set({ tacacsByAddress })}
        />
        <Tick
          label="Take packets that are not obfuscated (anyone on the path can read the passwords)"
          checked={form.tacacsPlain}
          onChange={(tacacsPlain) => set({ tacacsPlain })}
        />
      </div>
    </details>
  );
}
