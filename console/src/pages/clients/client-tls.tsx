import { blank } from "./client";
import { useObjects } from "../../api/hooks";
import { LinesField } from "../../ui/form";
import { Pick } from "../../ui/pick";

/** How the client proves itself over TLS, for RADIUS and TACACS+ alike. */
export function TLSSection({
  form,
  set,
  error,
}: {
  form: typeof blank;
  set: (patch: Partial<typeof blank>) => void;
  error: unknown;
}) {
  const certificates = useObjects("certificates").data?.items ?? [];
  const trusts = useObjects("trusts").data?.items ?? [];
  return (
    <details className="mb-3" open={form.tlsNames.length > 0}>
      <summary className="mb-1 cursor-pointer text-[12.5px] font-semibold">RADIUS and TACACS+ over TLS</summary>
      <div className="mt-2">
        <LinesField
          label="Names in its certificate"
          field="tlsNames"
          hint="Over TLS, the client proves itself by a certificate with one of these names (DNS name or address, one per line). RADIUS over TLS is taken from its addresses only."
          value={form.tlsNames}
          onChange={(tlsNames) => set({ tlsNames })}
          error={error}
          rows={1}
        />
        {form.tlsNames.length > 0 && (
          <div className="grid grid-cols-2 gap-3">
            <Pick
              label="Server certificate shown to it"
              search="certificates"
              field="tlsCertificate"
              value={form.tlsCertificate}
              onChange={(v) => set({ tlsCertificate: v })}
              error={error}
              options={[
                { value: "", label: "the first certificate" },
                ...certificates.map((c) => ({ value: c.name, label: c.name })),
              ]}
            />
            <Pick
              label="Trust list for its certificate"
              search="trusts"
              field="tlsTrust"
              value={form.tlsTrust}
              onChange={(v) => set({ tlsTrust: v })}
              error={error}
              options={[
                { value: "", label: trusts.length === 1 ? "the only trust list" : "choose a trust list" },
                ...trusts.map((t) => ({ value: t.name, label: t.name })),
              ]}
            />
          </div>
        )}
      </div>
    </details>
  );
}
