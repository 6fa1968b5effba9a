import { useState } from "react";
import type { Schema } from "../api/client";
import { Button } from "./basic";

/** Copies a text, and says so. */
export function CopyButton({ text, label = "Copy" }: { text: string; label?: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <Button
      onClick={async () => {
        await copy(text);
        setCopied(true);
        setTimeout(() => setCopied(false), 2000);
      }}
    >
      {copied ? "Copied" : label}
    </Button>
  );
}

/** The clipboard is only there where the page comes over TLS or from this machine. */
async function copy(text: string) {
  if (navigator.clipboard) return navigator.clipboard.writeText(text);
  const area = document.createElement("textarea");
  area.value = text;
  document.body.append(area);
  area.select();
  document.execCommand("copy");
  area.remove();
}

/** What to set on a device so that it asks this service, and what it has to expect in the answer. */
export function DeviceSettings({
  protocol = "RADIUS",
  servers,
  secret,
  waits,
  vlans,
}: {
  protocol?: "RADIUS" | "TACACS+";
  servers: Schema["Listener"][];
  /** Shown once, when it was made. */ secret?: string;
  /** The draft is not published, so the secret does not count yet. */ waits?: boolean;
  vlans: { vlan: string; pass: string }[];
}) {
  const rows: [string, string][] = servers
    .filter((s) => s.what.startsWith(protocol))
    .map((s): [string, string] => [s.what, `${s.address} port ${s.port}`]);
  const key = protocol === "RADIUS" ? "Shared secret" : "TACACS+ secret";
  rows.push([key, secret ?? "the one that was shown when it was made"]);
  if (protocol === "RADIUS") rows.push(["Message-Authenticator", "in every request"]);
  const expected = protocol === "RADIUS" ? vlans : [];
  const text = [
    ...rows.map(([k, v]) => `${k}: ${v}`),
    ...(expected.length > 0
      ? ["In the Access-Accept: Tunnel-Type (64) VLAN, Tunnel-Medium-Type (65) IEEE-802, Tunnel-Private-Group-ID (81):"]
      : []),
    ...expected.map((v) => `  ${v.vlan} (${v.pass})`),
  ].join("\n");
  return (
    <section
      aria-label="Settings for the device"
      className="mb-3 border-l-[3px] border-in bg-in-bg px-3 py-2 text-[13px]"
    >
      <div className="mb-1 flex flex-wrap items-center gap-2">
        <b className="mr-auto">Settings for the device</b>
        {secret && <CopyButton text={secret} label="Copy the secret" />}
        <CopyButton text={text} label="Copy all" />
      </div>
      <dl className="grid grid-cols-[minmax(120px,170px)_minmax(0,1fr)] gap-x-3">
        {rows.map(([k, v], i) => (
          <div key={i} className="contents">
            <dt className="text-soft">{k}</dt>
            <dd className="mono break-words select-all" data-secret={k === key && secret ? "" : undefined}>
              {v}
            </dd>
          </div>
        ))}
        {expected.length > 0 && (
          <>
            <dt className="text-soft">It has to expect</dt>
            <dd>
              <code>Tunnel-Type</code> (64) VLAN, <code>Tunnel-Medium-Type</code> (65) IEEE-802,{" "}
              <code>Tunnel-Private-Group-ID</code> (81) {expected.map((v) => `${v.vlan} (${v.pass})`).join(", ")}
            </dd>
          </>
        )}
      </dl>
      {secret && (
        <p className="mt-1">
          The secret is shown only here.{" "}
          {waits ? "It is in the draft, and counts once that is published." : "Set it on the device now."}
        </p>
      )}
    </section>
  );
}
