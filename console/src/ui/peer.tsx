import { useObjects } from "../api/hooks";
import { LinesField, TextField } from "./form";
import { Pick } from "./pick";

type Peer = { ca: string; serverName: string; certificate: string };

/** How another server proves itself over TLS, and this one to it. */
export function PeerFields({
  value,
  set,
  error,
  none,
}: {
  value: Peer;
  set: (patch: Partial<Peer>) => void;
  error: unknown;
  /** What it is called to show no certificate of ours. */
  none: string;
}) {
  const certificates = useObjects("certificates").data?.items ?? [];
  return (
    <>
      <Pick
        label="Certificate of this server"
        field="certificate"
        value={value.certificate}
        onChange={(certificate) => set({ certificate })}
        error={error}
        options={[{ value: "", label: none }, ...certificates.map((c) => ({ value: c.name, label: c.name }))]}
      />
      <TextField
        label="Name in its certificate"
        field="serverName"
        hint="If it is not the host."
        value={value.serverName}
        onChange={(serverName) => set({ serverName })}
        error={error}
      />
      <LinesField
        label="Authority of its certificate"
        field="ca"
        hint="PEM; leave empty to trust the authorities of the operating system."
        value={value.ca === "" ? [] : value.ca.split("\n")}
        onChange={(ca) => set({ ca: ca.join("\n") })}
        error={error}
        rows={4}
      />
    </>
  );
}
