import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, type Schema } from "../api/client";
import { useObject, useObjects } from "../api/hooks";
import { Button, ButtonLink, Empty, Failure, Notice, PageHead, rowKeys, Verdict, When } from "../ui/basic";
import { Editor, Problems } from "../ui/editor";
import { Field, lines, LinesField, Modal, Pick, TextField } from "../ui/form";

type Info = Schema["ResultsCertificate"];

/** Days until something expires, loud in the last 45. */
export function Left({ days, until }: { days: number; until: string }) {
  const date = <span className="mono">{until.slice(0, 10)}</span>;
  if (days < 0) return <Verdict kind="out">expired {date}</Verdict>;
  if (days <= 45) return <Verdict kind="wait">{days} days, {date}</Verdict>;
  return <span>{date} <span className="text-soft">in {days} days</span></span>;
}

export function CertificatesPage() {
  const certificates = useObjects("certificates");
  const authorities = useObjects("authorities");
  const trusts = useObjects("trusts");
  const go = useNavigate();
  return (
    <>
      <PageHead title="Certificates" lead="what the server shows to devices, and whose devices' certificates it takes" />
      <Failure error={certificates.error ?? authorities.error ?? trusts.error} />
      <Head title="Server certificates" to="/certificates/new" add="Add certificate" />
      {certificates.data?.items.length === 0 ? <Empty title="No server certificate">Methods that run in TLS show devices one. Make an authority of your own first, or a signing request for another.</Empty> : (
        <table className="grid-table">
          <thead><tr><th>Name</th><th>DNS names</th><th>Issued by</th><th>Key</th><th>Valid until</th><th>Shown by</th></tr></thead>
          <tbody>
            {certificates.data?.items.map((c) => (
              <tr key={c.id} {...rowKeys(() => go(`/certificates/${c.id}`))}>
                <td className="font-semibold">{c.name}</td><td className="mono">{c.chain[0]?.dns.join(", ")}</td><td>{c.chain[0]?.issuer ?? "waits to be signed"}</td><td className="text-soft">{c.chain[0]?.key}</td>
                <td>{c.chain[0] && <Left days={c.days} until={c.chain[0].until} />}</td><td>{c.usedBy.join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Head title="Our authorities" to="/authorities/new" add="Add authority" />
      {authorities.data?.items.length === 0 ? <Empty title="No authority of our own">One signs server certificates here, and certificates for devices.</Empty> : (
        <table className="grid-table">
          <thead><tr><th>Name</th><th>Subject</th><th>Key</th><th>Valid until</th><th>Issued here</th></tr></thead>
          <tbody>
            {authorities.data?.items.map((a) => (
              <tr key={a.id} {...rowKeys(() => go(`/authorities/${a.id}`))}>
                <td className="font-semibold">{a.name}</td><td>{a.info.subject}</td><td className="text-soft">{a.info.key}</td><td><Left days={a.days} until={a.info.until} /></td><td>{a.issued}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Head title="Trust lists for client certificates" to="/trusts/new" add="Add trust list" />
      {trusts.data?.items.length === 0 ? <Empty title="No trust list">Without one no client certificate is taken.</Empty> : (
        <table className="grid-table">
          <thead><tr><th>Name</th><th>Authorities</th><th>Name is read from</th><th>Revocation</th><th>Used by</th></tr></thead>
          <tbody>
            {trusts.data?.items.map((t) => (
              <tr key={t.id} {...rowKeys(() => go(`/trusts/${t.id}`))}>
                <td className="font-semibold">{t.name}</td><td>{t.infos.map((i) => i.subject).join(", ")}</td><td>{t.identity.join(", then ")}</td>
                <td>{[t.authorities.length > 0 && "our own record", t.crls.length > 0 && `${t.crls.length} ${t.crls.length === 1 ? "list" : "lists"}`, t.listed && "lists named in certificates", (t.ocsp || t.responder) && "responder"].filter(Boolean).join(", ") || "not checked"}; unanswered: {t.unanswered}</td><td>{t.usedBy.join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Issued />
    </>
  );
}

function Head({ title, to, add }: { title: string; to: string; add: string }) {
  return <div className="mt-5 mb-1.5 flex items-baseline justify-between first:mt-0"><h2>{title}</h2><ButtonLink to={to}>{add}</ButtonLink></div>;
}

/** Client certificates that our authorities issued. */
export function Issued({ authority = "" }: { authority?: string }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["issued", authority], queryFn: () => call<Schema["PageIssuedCertificate"]>("GET", `/issued?limit=200&authority=${encodeURIComponent(authority)}`) });
  const [asking, setAsking] = useState<Schema["IssuedCertificate"] | null>(null);
  const revoke = useMutation({ mutationFn: (id: string) => call("POST", `/issued/${id}/revoke`), onSuccess: () => { setAsking(null); queries.invalidateQueries(); } });
  if (!list.data?.items.length) return null;
  return (
    <>
      <h2 className="mt-5 mb-1.5">Issued to devices and people</h2>
      <Failure error={revoke.error} />
      <table className="grid-table">
        <thead><tr><th>Subject</th><th>Authority</th><th>Serial</th><th>Valid until</th><th>Issued</th><th /></tr></thead>
        <tbody>
          {list.data.items.map((i) => (
            <tr key={i.id}>
              <td className="font-semibold">{i.subject}</td><td>{i.authority}</td><td className="mono text-soft">{i.serial.slice(0, 16)}…</td><td className="mono">{i.until.slice(0, 10)}</td><td className="text-soft"><When at={i.issuedAt} long /> by {i.issuedBy}</td>
              <td className="text-right">{i.revokedAt ? <Verdict kind="out">revoked</Verdict> : <Button danger aria-label={`Revoke ${i.subject}`} onClick={() => setAsking(i)}>Revoke</Button>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Modal open={!!asking} onClose={() => setAsking(null)} title={`Revoke ${asking?.subject}?`}>
        <p className="mb-4">It is refused at once, and for good. A device that should still have access needs a new certificate.</p>
        <div className="flex gap-2"><Button danger onClick={() => revoke.mutate(asking!.id)}>Revoke for good</Button><Button onClick={() => setAsking(null)}>Keep</Button></div>
      </Modal>
    </>
  );
}

/** One certificate in full. */
export function Card({ info, title }: { info: Info; title?: string }) {
  const rows: [string, string][] = [["subject", info.subject], ["issued by", info.issuer], ["DNS names", info.dns.join(", ")], ["valid", `${info.from.slice(0, 10)} to ${info.until.slice(0, 10)}`], ["serial", info.serial], ["key", info.key], ["SHA-256", info.sha256]];
  return (
    <div className="mb-3">
      {title && <h2 className="mb-1">{title}</h2>}
      <dl className="grid grid-cols-[96px_minmax(0,1fr)] text-[13px]">
        {rows.filter(([, v]) => v).map(([k, v]) => <div key={k} className="contents"><dt className="border-b border-hair py-[3px] text-soft">{k}</dt><dd className="mono border-b border-hair py-[3px] [overflow-wrap:anywhere]">{v}</dd></div>)}
      </dl>
    </div>
  );
}

export function CertificatePage() {
  const { id = "" } = useParams();
  const one = useObject("certificates", id);
  if (id === "new") return <CertificateForm />;
  if (!one.data) return <><PageHead title="Certificate" /><Failure error={one.error} /></>;
  return <CertificateForm key={one.data.tag} certificate={one.data} />;
}

const base64 = (file: File) => new Promise<string>((done) => {
  const reader = new FileReader();
  reader.onload = () => done(String(reader.result).split(",")[1] ?? "");
  reader.readAsDataURL(file);
});

function CertificateForm({ certificate: c }: { certificate?: Schema["ServerCertificate"] }) {
  const authorities = useObjects("authorities").data?.items ?? [];
  const [how, setHow] = useState(c ? (c.request ? "answer" : "keep") : "own");
  const [form, setForm] = useState({ name: c?.name ?? "", note: c?.note ?? "", subject: c?.chain[0]?.dns[0] ?? "", names: c?.chain[0]?.dns ?? [], days: "397", key: "p256", authority: "", chain: "", privateKey: "", pkcs12: "", password: "" });
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
  const ways = [["own", "by an authority of our own"], ["request", "a signing request for another authority"], ["pem", "import PEM"], ["pkcs12", "import PKCS #12"]];
  return (
    <div className="max-w-[720px]">
      <div className="text-[13px] text-soft"><Link to="/certificates" className="hover:underline">Certificates</Link> / {c?.name ?? "new"}</div>
      <PageHead title={c?.name ?? "Add certificate"} lead={c?.chain[0] && <Left days={c.days} until={c.chain[0].until} />}>
        {c && (c.chain[0] || c.request) && <a className="text-[13px] underline" href={`/api/v1/certificates/${c.id}/file?form=pem`}>Download PEM</a>}
        {c?.chain[0] && <a className="text-[13px] underline" href={`/api/v1/certificates/${c.id}/file?form=der`}>DER</a>}
      </PageHead>
      {c && <Problems list={c.problems} />}
      {c?.chain.map((info, i) => <Card key={i} info={info} title={i === 0 ? (c.usedBy.length ? `Shown by ${c.usedBy.join(", ")}` : "Shown by no lane yet") : "Sent with it"} />)}
      {c?.request && <Field label="Signing request" hint="Have it signed, then put the certificate below.">{(p) => <textarea {...p} readOnly rows={6} className="field mono block text-[12px]" value={c.request} />}</Field>}
      <Editor kind="certificates" noun="certificate" object={c} body={body}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} hint="By which lanes choose it." />
            <Pick label={c ? "Replace it" : "Where it comes from"} value={how} onChange={setHow} options={[...(c ? [{ value: "keep", label: "no, keep it" }] : []), ...(c?.request ? [{ value: "answer", label: "with the answer to the signing request" }] : []), ...ways.map(([value, label]) => ({ value, label }))]}
              hint={c ? "A new one takes effect when it is published, without a restart; devices that trust its authority notice nothing." : undefined} />
            {(how === "own" || how === "request") && (
              <>
                {how === "own" && (authorities.length === 0 ? <Notice tone="warn">There is no authority of our own yet. <Link className="underline" to="/authorities/new">Make one first</Link></Notice>
                  : <Pick label="Authority" field="authority" error={error} value={form.authority || authorities[0].name} onChange={(authority) => set({ authority })} options={authorities.map((a) => ({ value: a.name, label: a.name }))} />)}
                <TextField label="Common name" field="make.subject" mono hint="Such as radius.lanternferries.example." value={form.subject} onChange={(subject) => set({ subject })} error={error} />
                <LinesField label="DNS names" field="make.names" hint="One a line. Devices compare these with the name they expect. Empty takes the common name." value={form.names} onChange={(names) => set({ names })} error={error} />
                <Pick label="Key" field="make.key" error={error} value={form.key} onChange={(key) => set({ key })} options={[{ value: "p256", label: "ECDSA P-256 (fast)" }, { value: "rsa2048", label: "RSA 2048 (for old devices)" }]} />
                {how === "own" && <TextField label="Valid for, days" field="make.days" type="number" hint="Many devices refuse server certificates that are valid for longer than 397 days." value={form.days} onChange={(days) => set({ days })} error={error} />}
              </>
            )}
            {(how === "pem" || how === "answer") && (
              <>
                <Field label="Certificate and intermediates, PEM" name="chain" error={error}>{(p) => <textarea {...p} rows={6} className="field mono block text-[12px]" value={form.chain} onChange={(e) => set({ chain: e.target.value })} spellCheck={false} />}</Field>
                {how === "pem" && <Field label="Private key, PEM" name="key" error={error} hint="It is sealed and never shown again. Empty keeps the key that is here.">{(p) => <textarea {...p} rows={4} className="field mono block text-[12px]" value={form.privateKey} onChange={(e) => set({ privateKey: e.target.value })} spellCheck={false} />}</Field>}
              </>
            )}
            {how === "pkcs12" && (
              <>
                <Field label="PKCS #12 file" name="pkcs12" error={error}>{(p) => <input {...p} type="file" className="block text-[13px]" onChange={async (e) => e.target.files?.[0] && set({ pkcs12: await base64(e.target.files[0]) })} />}</Field>
                <TextField label="Its password" field="password" type="password" value={form.password} onChange={(password) => set({ password })} error={error} autoComplete="new-password" />
              </>
            )}
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
    </div>
  );
}
