import { Card, Left } from "./card";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { type Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { Failure, Notice, PageHead, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, lines, LinesField, TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";

export function CertificatePage() {
  const { id = "" } = useParams();
  const one = useObject("certificates", id);
  if (id === "new") return <CertificateForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Certificate" />
        <Failure error={one.error} />
      </>
    );
  return <CertificateForm key={one.data.tag} certificate={one.data} />;
}

export const base64 = (file: File) =>
  new Promise<string>((done) => {
    const reader = new FileReader();
    reader.onload = () => done(String(reader.result).split(",")[1] ?? "");
    reader.readAsDataURL(file);
  });

export function CertificateForm({ certificate: c }: { certificate?: Schema["ServerCertificate"] }) {
  const authorities = useObjects("authorities").data?.items ?? [];
  const [how, setHow] = useState(c ? (c.request ? "answer" : "keep") : "own");
  const [form, setForm] = useState({
    name: c?.name ?? "",
    note: c?.note ?? "",
    subject: c?.chain[0]?.dns[0] ?? "",
    names: c?.chain[0]?.dns ?? [],
    days: "397",
    key: "p256",
    authority: "",
    chain: "",
    privateKey: "",
    pkcs12: "",
    password: "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const make = { subject: form.subject, names: lines(form.names), days: Number(form.days), key: form.key };
  const body = () => {
    const base = { name: form.name, note: form.note };
    if (how === "own") return { ...base, make, authority: form.authority || authorities[0]?.name };
    if (how === "request") return { ...base, make };
    if (how === "pem" || how === "answer") return { ...base, chain: form.chain, key: form.privateKey };
    if (how === "pkcs12") return { ...base, pkcs12: form.pkcs12, password: form.password };
    return base;
  };
  const ways = [
    ["own", "by an authority of our own"],
    ["request", "a signing request for another authority"],
    ["pem", "import PEM"],
    ["pkcs12", "import PKCS #12"],
  ];
  return (
    <div className="max-w-[720px]">
      <Trail to="/certificates" of="Certificates">
        {c?.name ?? "new"}
      </Trail>
      <PageHead
        title={c?.name ?? "Add certificate"}
        lead={c?.chain[0] && <Left days={c.days} until={c.chain[0].until} />}
      >
        {c && (c.chain[0] || c.request) && (
          <a className="text-[13px] underline" href={`/api/v1/certificates/${c.id}/file?form=pem`}>
            Download PEM
          </a>
        )}
        {c?.chain[0] && (
          <a className="text-[13px] underline" href={`/api/v1/certificates/${c.id}/file?form=der`}>
            DER
          </a>
        )}
      </PageHead>
      {c && <Problems list={c.problems} />}
      {c?.chain.map((info, i) => (
        <Card
          key={i}
          info={info}
          title={
            i === 0
              ? c.usedBy.length
                ? `Shown by ${c.usedBy.join(", ")}`
                : "Not used by any lane yet"
              : "Sent with it"
          }
        />
      ))}
      {c?.request && (
        <Field label="Signing request" hint="Have it signed, then put the certificate below.">
          {(p) => <textarea {...p} readOnly rows={6} className="field mono block text-[12px]" value={c.request} />}
        </Field>
      )}
      <Editor kind="certificates" noun="certificate" object={c} body={body}>
        {(error) => (
          <>
            <TextField
              label="Name"
              field="name"
              value={form.name}
              onChange={(name) => set({ name })}
              error={error}
              hint="Lanes select it by this name."
            />
            <Pick
              label={c ? "Replace it" : "Where it comes from"}
              value={how}
              onChange={setHow}
              options={[
                ...(c ? [{ value: "keep", label: "no, keep it" }] : []),
                ...(c?.request ? [{ value: "answer", label: "with the answer to the signing request" }] : []),
                ...ways.map(([value, label]) => ({ value, label })),
              ]}
              hint={
                c
                  ? "A new certificate takes effect when it is published, without a restart. Devices that trust its authority notice nothing."
                  : undefined
              }
            />
            {(how === "own" || how === "request") && (
              <>
                {how === "own" &&
                  (authorities.length === 0 ? (
                    <Notice tone="warn">
                      There is no authority of our own yet.{" "}
                      <Link className="underline" to="/authorities/new">
                        Make one first
                      </Link>
                    </Notice>
                  ) : (
                    <Pick
                      label="Authority"
                      field="authority"
                      error={error}
                      value={form.authority || authorities[0].name}
                      onChange={(authority) => set({ authority })}
                      options={authorities.map((a) => ({ value: a.name, label: a.name }))}
                    />
                  ))}
                <TextField
                  label="Common name"
                  field="make.subject"
                  mono
                  hint="Such as radius.example.org."
                  value={form.subject}
                  onChange={(subject) => set({ subject })}
                  error={error}
                />
                <LinesField
                  label="DNS names"
                  field="make.names"
                  hint="One per line. Devices compare these with the name they expect. If left empty, the common name is used."
                  value={form.names}
                  onChange={(names) => set({ names })}
                  error={error}
                />
                <Pick
                  label="Key"
                  field="make.key"
                  error={error}
                  value={form.key}
                  onChange={(key) => set({ key })}
                  options={[
                    { value: "p256", label: "ECDSA P-256 (fast)" },
                    { value: "rsa2048", label: "RSA 2048 (for old devices)" },
                  ]}
                />
                {how === "own" && (
                  <TextField
                    label="Valid for, days"
                    field="make.days"
                    type="number"
                    hint="Many devices refuse server certificates that are valid for longer than 397 days."
                    value={form.days}
                    onChange={(days) => set({ days })}
                    error={error}
                  />
                )}
              </>
            )}
            {(how === "pem" || how === "answer") && (
              <>
                <Field label="Certificate and intermediates, PEM" name="chain" error={error}>
                  {(p) => (
                    <textarea
                      {...p}
                      rows={6}
                      className="field mono block text-[12px]"
                      value={form.chain}
                      onChange={(e) => set({ chain: e.target.value })}
                      spellCheck={false}
                    />
                  )}
                </Field>
                {how === "pem" && (
                  <Field
                    label="Private key, PEM"
                    name="key"
                    error={error}
                    hint="It is sealed and never shown again. Leave empty to keep the present key."
                  >
                    {(p) => (
                      <textarea
                        {...p}
                        rows={4}
                        className="field mono block text-[12px]"
                        value={form.privateKey}
                        onChange={(e) => set({ privateKey: e.target.value })}
                        spellCheck={false}
                      />
                    )}
                  </Field>
                )}
              </>
            )}
            {how === "pkcs12" && (
              <>
                <Field label="PKCS #12 file" name="pkcs12" error={error}>
                  {(p) => (
                    <input
                      {...p}
                      type="file"
                      className="block text-[13px]"
                      onChange={async (e) => e.target.files?.[0] && set({ pkcs12: await base64(e.target.files[0]) })}
                    />
                  )}
                </Field>
                <TextField
                  label="Its password"
                  field="password"
                  type="password"
                  value={form.password}
                  onChange={(password) => set({ password })}
                  error={error}
                  autoComplete="new-password"
                />
              </>
            )}
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
    </div>
  );
}
