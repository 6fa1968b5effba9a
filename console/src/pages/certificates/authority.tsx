import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { saveFile } from "../../api/file";
import { call, type Schema } from "../../api/client";
import { useObject } from "../../api/hooks";
import { Button, Failure, Notice, PageHead, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, lines, LinesField, TextField, Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { Card, Left } from "./card";
import { Issued } from "./certificates";

type Authority = Schema["Authority"];

export function AuthorityPage() {
  const { id = "" } = useParams();
  const one = useObject("authorities", id);
  if (id === "new") return <AuthorityForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Authority" />
        <Failure error={one.error} />
      </>
    );
  return <AuthorityForm key={one.data.tag} authority={one.data} />;
}

function AuthorityForm({ authority: a }: { authority?: Authority }) {
  const [how, setHow] = useState(a ? "keep" : "make");
  const [issuing, setIssuing] = useState(false);
  const [form, setForm] = useState({
    name: a?.name ?? "",
    note: a?.note ?? "",
    subject: "",
    years: "10",
    key: "p256",
    certificate: "",
    privateKey: "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const body = () => ({
    name: form.name,
    note: form.note,
    ...(how === "make"
      ? { make: { subject: form.subject, days: Math.round(Number(form.years) * 365), key: form.key } }
      : {}),
    ...(how === "import" ? { certificate: form.certificate, key: form.privateKey } : {}),
  });
  return (
    <div className="max-w-[820px]">
      <Trail to="/certificates" of="Certificates">
        authority {a?.name ?? "new"}
      </Trail>
      <PageHead title={a?.name ?? "Add authority"} lead={a && <Left days={a.days} until={a.info.until} />}>
        {a && (
          <>
            <a className="text-[13px] underline" href={`/api/v1/authorities/${a.id}/file?form=pem`}>
              Download PEM
            </a>
            <a className="text-[13px] underline" href={`/api/v1/authorities/${a.id}/file?form=der`}>
              DER
            </a>
            <a className="text-[13px] underline" href={`/lists/${a.id}.crl`}>
              Revocation list
            </a>
            <Button primary onClick={() => setIssuing(true)}>
              Issue certificate
            </Button>
          </>
        )}
      </PageHead>
      {a && (
        <>
          <Problems list={a.problems} />
          <Card info={a.info} />
        </>
      )}
      <Editor kind="authorities" noun="authority" object={a} body={body}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            {!a && (
              <Pick
                label="Where it comes from"
                value={how}
                onChange={setHow}
                options={[
                  { value: "make", label: "make a new one" },
                  { value: "import", label: "import PEM" },
                ]}
              />
            )}
            {how === "make" && (
              <>
                <TextField
                  label="Common name"
                  field="make.subject"
                  hint="What people see when a device asks whether to trust it. If left empty, the name is used."
                  value={form.subject}
                  onChange={(subject) => set({ subject })}
                  error={error}
                />
                <div className="grid grid-cols-2 gap-4">
                  <TextField
                    label="Valid for, years"
                    field="make.days"
                    type="number"
                    value={form.years}
                    onChange={(years) => set({ years })}
                    error={error}
                  />
                  <Pick
                    label="Key"
                    field="make.key"
                    error={error}
                    value={form.key}
                    onChange={(key) => set({ key })}
                    options={[
                      { value: "p256", label: "ECDSA P-256" },
                      { value: "rsa2048", label: "RSA 2048 (for old devices)" },
                    ]}
                  />
                </div>
              </>
            )}
            {how === "import" && (
              <>
                <Field label="Certificate, PEM" name="certificate" error={error}>
                  {(p) => (
                    <textarea
                      {...p}
                      rows={6}
                      className="field mono block text-[12px]"
                      value={form.certificate}
                      onChange={(e) => set({ certificate: e.target.value })}
                      spellCheck={false}
                    />
                  )}
                </Field>
                <Field label="Private key, PEM" name="key" error={error} hint="It is sealed and never shown again.">
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
              </>
            )}
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
      {a && <Issued authority={a.id} />}
      {a && (
        <Modal wide open={issuing} onClose={() => setIssuing(false)} title={`Issue a client certificate by ${a.name}`}>
          {issuing && <Issue authority={a} />}
        </Modal>
      )}
    </div>
  );
}

const save = (name: string, type: string, data: BlobPart) => saveFile(name, new Blob([data], { type }));

const octets = (text: string) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));

function Issue({ authority }: { authority: Authority }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ upn: "", email: "", names: [] as string[], days: "365", legacy: false });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const issue = useMutation({
    mutationFn: () =>
      call<Schema["NewlyIssued"]>("POST", `/authorities/${authority.id}/issue`, {
        upn: form.upn,
        email: form.email,
        names: lines(form.names),
        days: Number(form.days),
        legacy: form.legacy,
      }),
    onSuccess: () => queries.invalidateQueries(),
  });
  const made = issue.data;
  if (made) {
    return (
      <>
        <Notice tone="in">
          <b>Issued: {made.certificate.subject}</b>
          <div>
            The key is shown only here and is not kept. Password of the PKCS #12 file: <code>{made.password}</code>
          </div>
        </Notice>
        <div className="mt-3 flex gap-2">
          <Button primary onClick={() => save("device.p12", "application/x-pkcs12", octets(made.pkcs12))}>
            Download PKCS #12
          </Button>
          <Button onClick={() => save("device.pem", "application/x-pem-file", made.chain)}>Certificate, PEM</Button>
          <Button onClick={() => save("device.key", "application/x-pem-file", made.key)}>Key, PEM</Button>
        </div>
      </>
    );
  }
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        issue.mutate();
      }}
    >
      <Failure error={issue.error} />
      <p className="hint my-2">It takes effect at once, and is not part of the draft.</p>
      <TextField
        label="User principal name"
        field="upn"
        mono
        hint="For a person, such as name@example.org."
        value={form.upn}
        onChange={(upn) => set({ upn })}
        error={issue.error}
      />
      <LinesField
        label="DNS names"
        field="names"
        hint="For a computer, such as pc17.example.org."
        value={form.names}
        onChange={(names) => set({ names })}
        error={issue.error}
      />
      <TextField
        label="Email"
        field="email"
        value={form.email}
        onChange={(email) => set({ email })}
        error={issue.error}
      />
      <TextField
        label="Valid for, days"
        field="days"
        type="number"
        value={form.days}
        onChange={(days) => set({ days })}
        error={issue.error}
      />
      <Tick
        label="PKCS #12 with old ciphers, for devices that know no others"
        checked={form.legacy}
        onChange={(legacy) => set({ legacy })}
      />
      <Button primary type="submit" disabled={issue.isPending}>
        Issue
      </Button>
    </form>
  );
}
