import { useState } from "react";
import { useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { Failure, PageHead, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, lines, LinesField, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { Card } from "./card";

export function TrustPage() {
  const { id = "" } = useParams();
  const one = useObject("trusts", id);
  if (id === "new") return <TrustForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Trust list" />
        <Failure error={one.error} />
      </>
    );
  return <TrustForm key={one.data.tag} trust={one.data} />;
}

const sources: Record<string, string> = {
  upn: "user principal name",
  dns: "DNS name (a computer)",
  email: "email address",
  uri: "URI",
  subject: "common name of the subject",
};

function TrustForm({ trust: t }: { trust?: Schema["Trust"] }) {
  const authorities = useObjects("authorities").data?.items ?? [];
  const [form, setForm] = useState({
    name: t?.name ?? "",
    authorities: t?.authorities ?? [],
    pem: t?.pem ?? "",
    identity: t?.identity ?? ["upn", "dns", "email", "subject"],
    crls: t?.crls ?? [],
    listed: t?.listed ?? false,
    ocsp: t?.ocsp ?? "",
    responder: t?.responder ?? false,
    unanswered: t?.unanswered ?? "refuse",
    note: t?.note ?? "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const body = () => ({ ...form, crls: lines(form.crls) });
  return (
    <div className="max-w-[720px]">
      <Trail to="/certificates" of="Certificates">
        trust list {t?.name ?? "new"}
      </Trail>
      <PageHead
        title={t?.name ?? "Add trust list"}
        lead={t && (t.usedBy.length ? `used by ${t.usedBy.join(", ")}` : "used by no lane yet")}
      />
      {t && <Problems list={t.problems} />}
      <Editor kind="trusts" noun="trust list" object={t} body={body}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <Field label="Our own authorities" name="authorities" error={error}>
              {(p) => (
                <div id={p.id}>
                  {authorities.length === 0 && <span className="text-soft">There is none.</span>}
                  {authorities.map((a) => {
                    const on = form.authorities.some((n) => n.toLowerCase() === a.name.toLowerCase());
                    return (
                      <Tick
                        key={a.id}
                        label={`${a.name} (${a.info.subject})`}
                        checked={on}
                        onChange={(v) =>
                          set({
                            authorities: v
                              ? [...form.authorities, a.name]
                              : form.authorities.filter((n) => n.toLowerCase() !== a.name.toLowerCase()),
                          })
                        }
                      />
                    );
                  })}
                </div>
              )}
            </Field>
            <Field label="Other authorities, PEM" name="pem" error={error}>
              {(p) => (
                <textarea
                  {...p}
                  rows={4}
                  className="field mono block text-[12px]"
                  value={form.pem}
                  onChange={(e) => set({ pem: e.target.value })}
                  spellCheck={false}
                />
              )}
            </Field>
            <Field
              label="The name is read from, in this order"
              name="identity"
              error={error}
              hint="It is looked up like a typed name; its form decides the realm."
            >
              {(p) => (
                <div id={p.id} className="rounded border border-hair bg-sheet">
                  {form.identity.map((s, i) => (
                    <div key={s} className="flex items-center gap-2 border-b border-hair px-2 py-1 text-[13px]">
                      <span className="w-5 text-soft">{i + 1}</span>
                      {sources[s] ?? s}
                      <span className="ml-auto flex gap-1">
                        <button
                          type="button"
                          aria-label={`Move ${s} up`}
                          disabled={i === 0}
                          className="rounded border border-hair px-1.5 disabled:opacity-40"
                          onClick={() =>
                            set({
                              identity: form.identity.map((x, j) =>
                                j === i - 1 ? s : j === i ? form.identity[i - 1] : x,
                              ),
                            })
                          }
                        >
                          ↑
                        </button>
                        <button
                          type="button"
                          aria-label={`Remove ${s}`}
                          className="rounded border border-hair px-1.5"
                          onClick={() => set({ identity: form.identity.filter((x) => x !== s) })}
                        >
                          Remove
                        </button>
                      </span>
                    </div>
                  ))}
                  <div className="flex flex-wrap gap-1 p-2">
                    {Object.keys(sources)
                      .filter((s) => !form.identity.includes(s))
                      .map((s) => (
                        <button
                          key={s}
                          type="button"
                          className="rounded border border-hair bg-sheet px-2 text-[13px] font-semibold"
                          onClick={() => set({ identity: [...form.identity, s] })}
                        >
                          Add {s}
                        </button>
                      ))}
                  </div>
                </div>
              )}
            </Field>
            <LinesField
              label="Revocation lists"
              field="crls"
              hint="One per line: an http address, or a file on this server. They are cached and read again every hour. Your own authorities need none."
              value={form.crls}
              onChange={(crls) => set({ crls })}
              error={error}
            />
            <Tick
              label="Also the lists that certificates name"
              checked={form.listed}
              onChange={(listed) => set({ listed })}
            />
            <TextField
              label="Responder (OCSP)"
              field="ocsp"
              mono
              hint="Address of the responder; leave empty for none."
              value={form.ocsp}
              onChange={(ocsp) => set({ ocsp })}
              error={error}
            />
            <Tick
              label="Also the responder that a certificate names"
              checked={form.responder}
              onChange={(responder) => set({ responder })}
            />
            <Pick
              label="If revocation cannot be checked"
              field="unanswered"
              error={error}
              value={form.unanswered}
              onChange={(v) => set({ unanswered: v as "refuse" | "take" })}
              options={[
                { value: "refuse", label: "refuse it" },
                { value: "take", label: "take it, and note that" },
              ]}
            />
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
      {t && t.infos.length > 0 && (
        <div className="mt-5">
          {t.infos.map((info, i) => (
            <Card key={i} info={info} title={i === 0 ? "Its authorities" : undefined} />
          ))}
        </div>
      )}
    </div>
  );
}
