import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { call, type Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { Button, ButtonLink, Empty, Failure, PageHead, rowKeys, Verdict, When } from "../../ui/basic";
import { Modal } from "../../ui/modal";
import { Left } from "./card";

export function CertificatesPage() {
  const certificates = useObjects("certificates");
  const authorities = useObjects("authorities");
  const trusts = useObjects("trusts");
  return (
    <>
      <PageHead
        title="Certificates"
        lead="what the server shows to devices, and which client certificates it accepts"
      />
      <Failure error={certificates.error ?? authorities.error ?? trusts.error} />
      {certificates.data && authorities.data && trusts.data && (
        <Sections
          certificates={certificates.data.items}
          authorities={authorities.data.items}
          trusts={trusts.data.items}
        />
      )}
    </>
  );
}

/** All three at once, so that nothing moves when another comes in. */
function Sections({
  certificates,
  authorities,
  trusts,
}: {
  certificates: Schema["ServerCertificate"][];
  authorities: Schema["Authority"][];
  trusts: Schema["Trust"][];
}) {
  const go = useNavigate();
  return (
    <>
      <Head title="Server certificates" to="/certificates/new" add="Add certificate" />
      {certificates.length === 0 ? (
        <Empty title="No server certificate">
          Methods that use TLS show devices a server certificate. Make an authority of your own first, or a signing
          request for another authority.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>DNS names</th>
              <th>Issued by</th>
              <th>Key</th>
              <th>Valid until</th>
              <th>Shown by</th>
            </tr>
          </thead>
          <tbody>
            {certificates.map((c) => (
              <tr key={c.id} {...rowKeys(() => go(`/certificates/${c.id}`))}>
                <td className="font-semibold">{c.name}</td>
                <td className="mono">{c.chain[0]?.dns.join(", ")}</td>
                <td>{c.chain[0]?.issuer ?? "waits to be signed"}</td>
                <td className="text-soft">{c.chain[0]?.key}</td>
                <td>{c.chain[0] && <Left days={c.days} until={c.chain[0].until} />}</td>
                <td>{c.usedBy.join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Head title="Our authorities" to="/authorities/new" add="Add authority" />
      {authorities.length === 0 ? (
        <Empty title="No authority of our own">
          An authority of your own signs server certificates and certificates for devices.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Subject</th>
              <th>Key</th>
              <th>Valid until</th>
              <th>Issued here</th>
            </tr>
          </thead>
          <tbody>
            {authorities.map((a) => (
              <tr key={a.id} {...rowKeys(() => go(`/authorities/${a.id}`))}>
                <td className="font-semibold">{a.name}</td>
                <td>{a.info.subject}</td>
                <td className="text-soft">{a.info.key}</td>
                <td>
                  <Left days={a.days} until={a.info.until} />
                </td>
                <td>{a.issued}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Head title="Trust lists for client certificates" to="/trusts/new" add="Add trust list" />
      {trusts.length === 0 ? (
        <Empty title="No trust list">Without a trust list, no client certificate is accepted.</Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Authorities</th>
              <th>Name is read from</th>
              <th>Revocation</th>
              <th>Used by</th>
            </tr>
          </thead>
          <tbody>
            {trusts.map((t) => (
              <tr key={t.id} {...rowKeys(() => go(`/trusts/${t.id}`))}>
                <td className="font-semibold">{t.name}</td>
                <td>{t.infos.map((i) => i.subject).join(", ")}</td>
                <td>{t.identity.join(", then ")}</td>
                <td>
                  {[
                    t.authorities.length > 0 && "our own record",
                    t.crls.length > 0 && `${t.crls.length} ${t.crls.length === 1 ? "list" : "lists"}`,
                    t.listed && "lists named in certificates",
                    (t.ocsp || t.responder) && "responder",
                  ]
                    .filter(Boolean)
                    .join(", ") || "not checked"}
                  ; unanswered: {t.unanswered}
                </td>
                <td>{t.usedBy.join(", ")}</td>
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
  return (
    <div className="mt-5 mb-1.5 flex items-baseline justify-between first:mt-0">
      <h2>{title}</h2>
      <ButtonLink to={to}>{add}</ButtonLink>
    </div>
  );
}

/** Client certificates that our authorities issued. */
export function Issued({ authority = "" }: { authority?: string }) {
  const queries = useQueryClient();
  const list = useQuery({
    queryKey: ["issued", authority],
    queryFn: () =>
      call<Schema["PageIssuedCertificate"]>("GET", `/issued?limit=200&authority=${encodeURIComponent(authority)}`),
  });
  const [asking, setAsking] = useState<Schema["IssuedCertificate"] | null>(null);
  const revoke = useMutation({
    mutationFn: (id: string) => call("POST", `/issued/${id}/revoke`),
    onSuccess: () => {
      setAsking(null);
      queries.invalidateQueries();
    },
  });
  if (!list.data?.items.length) return null;
  return (
    <>
      <h2 className="mt-5 mb-1.5">Issued to devices and people</h2>
      <Failure error={revoke.error} />
      <table className="grid-table">
        <thead>
          <tr>
            <th>Subject</th>
            <th>Authority</th>
            <th>Serial</th>
            <th>Valid until</th>
            <th>Issued</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {list.data.items.map((i) => (
            <tr key={i.id}>
              <td className="font-semibold">{i.subject}</td>
              <td>{i.authority}</td>
              <td className="mono text-soft">{i.serial.slice(0, 16)}…</td>
              <td className="mono">{i.until.slice(0, 10)}</td>
              <td className="text-soft">
                <When at={i.issuedAt} long /> by {i.issuedBy}
              </td>
              <td className="text-right">
                {i.revokedAt ? (
                  <Verdict kind="out">revoked</Verdict>
                ) : (
                  <Button danger aria-label={`Revoke ${i.subject}`} onClick={() => setAsking(i)}>
                    Revoke
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Modal open={!!asking} onClose={() => setAsking(null)} title={`Revoke ${asking?.subject}?`}>
        <p className="mb-4">
          It is refused at once and permanently. A device that should keep access needs a new certificate.
        </p>
        <div className="flex gap-2">
          <Button danger onClick={() => revoke.mutate(asking!.id)}>
            Revoke for good
          </Button>
          <Button onClick={() => setAsking(null)}>Keep</Button>
        </div>
      </Modal>
    </>
  );
}
