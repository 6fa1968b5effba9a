import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { call } from "../../api/client";
import { useObject } from "../../api/hooks";
import { ago, Button, Failure, Notice, PageHead, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { lines, LinesField, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { type GearSecret, GearSection } from "./client-gear";
import { TLSSection } from "./client-tls";
import { type ChangeSecret, SessionSection } from "./client-sessions";
import { type Client, blank, keepMade, tagText, takeMade, type Made } from "./client";
import { State } from "./client-state";
import { Lately, Settings } from "./client-side";

export function ClientPage() {
  const { id = "" } = useParams();
  const one = useObject("clients", id);
  if (id === "new") return <ClientForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Client" />
        <Failure error={one.error} />
      </>
    );
  return <ClientForm key={one.data.id} client={one.data} />;
}

export function ClientForm({ client, address }: { client?: Client; address?: string }) {
  const [form, setForm] = useState<typeof blank>(
    client
      ? { ...client, tlsNames: client.tlsNames ?? [], sessions: client.sessions ?? {} }
      : { ...blank, addresses: address ? [address] : [] },
  );
  const [tags, setTags] = useState(tagText(form.tags));
  const [secret, setSecret] = useState("");
  const [how, setHow] = useState(client ? "keep" : "generate");
  const [grace, setGrace] = useState("24");
  const [made, setMade] = useState<Made | undefined>(() => client && takeMade(client.id));
  const [showing, setShowing] = useState(false);
  const [gear, setGear] = useState<GearSecret>({ how: client ? "keep" : "none", secret: "" });
  const [change, setChange] = useState<ChangeSecret>({ how: "keep", secret: "" });
  const set = (patch: Partial<typeof blank>) => setForm({ ...form, ...patch });
  const body = () => ({
    name: form.name,
    enabled: form.enabled,
    addresses: lines(form.addresses),
    messageAuthenticator: form.messageAuthenticator,
    note: form.note,
    tacacsPlain: form.tacacsPlain,
    tacacsByAddress: form.tacacsByAddress,
    tlsNames: lines(form.tlsNames),
    tlsCertificate: form.tlsCertificate,
    tlsTrust: form.tlsTrust,
    sessions: { ...form.sessions, identify: lines(form.sessions.identify ?? []) },
    ...(change.how === "type"
      ? { changeSecret: change.secret }
      : change.how === "none"
        ? { removeChangeSecret: true }
        : {}),
    ...(gear.how === "type"
      ? { tacacsSecret: gear.secret }
      : gear.how === "generate"
        ? { generateTacacsSecret: true }
        : gear.how === "none" && client?.tacacsSecretSet
          ? { removeTacacsSecret: true }
          : {}),
    tags: Object.fromEntries(lines(tags).map((t) => [t.split("=")[0], t.split("=").slice(1).join("=")])),
    ...(how === "type" ? { secret } : how === "generate" ? { generateSecret: true } : {}),
    ...((how !== "keep" || gear.how === "type" || gear.how === "generate") && client && grace
      ? { keepPreviousUntil: new Date(Date.now() + Number(grace) * 3600_000).toISOString() }
      : {}),
  });
  const badTag = lines(tags).find((t) => !/^[a-z0-9-]+=.+/i.test(t));
  const badAddress = lines(form.addresses).find((a) => !/^[0-9a-f:.[\]]+(\/\d{1,3})?$/i.test(a));
  return (
    <div className={client ? "grid gap-8 *:min-w-0 lg:grid-cols-[minmax(0,640px)_minmax(240px,1fr)]" : "max-w-[720px]"}>
      <div>
        <Trail to="/clients" of="Clients">
          {client?.name ?? "new"}
        </Trail>
        <PageHead title={client?.name ?? "Add client"} lead={client && <State c={client} />}>
          {client && <Button onClick={() => setShowing(!showing)}>Settings for the device</Button>}
        </PageHead>
        {client?.problem && (
          <div className="mb-3">
            <Notice tone={client.problem.current ? "out" : "warn"}>
              <b>
                {client.problem.address} {client.problem.sentence}
              </b>
              {client.problem.current ? "" : " (earlier)"}: {client.problem.count} requests, the last{" "}
              {ago(client.problem.last)}. {client.problem.remedy}{" "}
              {client.problem.detail && <span className="text-soft">({client.problem.detail})</span>}
              {client.problem.earlier?.map((e) => (
                <div key={e.since} className="text-soft">
                  Before: {e.sentence}, {e.count} requests, the last {ago(e.last)}.
                </div>
              ))}
              {client.problem.fault === "no-message-authenticator" && form.messageAuthenticator === "require" && (
                <div className="mt-2">
                  <Button onClick={() => set({ messageAuthenticator: "auto" })}>
                    Take requests without it from this client
                  </Button>{" "}
                  <span className="text-soft">until it is seen with one; then save.</span>
                </div>
              )}
            </Notice>
          </div>
        )}
        {(made || showing) && <Settings made={made} />}
        {client && <Problems list={client.problems} />}
        <Editor
          kind="clients"
          noun="client"
          object={client}
          body={body}
          onSaved={(s) => {
            if (s.secret) {
              const protocol = gear.how === "generate" ? "TACACS+" : "RADIUS";
              keepMade(s.id, protocol, s.secret); // for the page of a client that is new
              setMade({ protocol, secret: s.secret }); // and stays, however often the rest is saved
            }
            setHow("keep");
            setSecret("");
            setGrace("24");
            setGear({ how: "keep", secret: "" });
            setChange({ how: "keep", secret: "" });
          }}
        >
          {(error) => (
            <>
              <TextField
                label="Name"
                field="name"
                mono
                value={form.name}
                onChange={(name) => set({ name })}
                error={error}
                autoFocus={!client}
              />
              <LinesField
                label="Addresses"
                field="addresses"
                hint="One address or prefix per line, IPv4 or IPv6. The longest prefix wins."
                value={form.addresses}
                onChange={(addresses) => set({ addresses })}
                error={error}
                local={badAddress && `${badAddress} is neither an address nor a prefix`}
              />
              <Pick
                label="Shared secret"
                value={how}
                onChange={setHow}
                options={[
                  ...(client?.secretSet
                    ? [{ value: "keep", label: "Keep the present one" }]
                    : [{ value: "keep", label: "None: RADIUS over TLS alone, or none at all" }]),
                  { value: "generate", label: "Generate a new secret, shown once" },
                  { value: "type", label: "Enter the secret that is set on the device" },
                ]}
                error={error}
                field="secret"
              />
              {how === "type" && (
                <TextField
                  label="Secret"
                  mono
                  type="password"
                  value={secret}
                  onChange={setSecret}
                  error={error}
                  field="secret"
                  hint={
                    secret.length < 16
                      ? "Use at least 16 characters: shorter secrets can be guessed from one packet."
                      : ""
                  }
                  autoComplete="new-password"
                />
              )}
              {((how !== "keep" && client?.secretSet) ||
                ((gear.how === "type" || gear.how === "generate") && client?.tacacsSecretSet)) && (
                <Pick
                  label="Accept the current secret for"
                  value={grace}
                  onChange={setGrace}
                  options={[
                    { value: "", label: "no longer" },
                    { value: "1", label: "one more hour" },
                    { value: "24", label: "one more day" },
                    { value: "168", label: "one more week" },
                  ]}
                  hint="So you can change the device without an outage."
                />
              )}
              {client?.previousUntil && (
                <p className="hint mb-3">
                  The previous secret is accepted until {new Date(client.previousUntil).toLocaleString()}.
                </p>
              )}
              <Pick
                label="Message-Authenticator"
                hint="Many older devices send none: require discards their requests, and this page says so."
                value={form.messageAuthenticator}
                onChange={(messageAuthenticator) => set({ messageAuthenticator })}
                error={error}
                field="messageAuthenticator"
                options={[
                  { value: "require", label: "require: discard requests without it" },
                  { value: "auto", label: "auto: required once it was seen" },
                  { value: "off", label: "off: replies can be forged on the wire" },
                ]}
              />
              {client && <Learned client={client} />}
              <TLSSection form={form} set={set} error={error} />
              <GearSection client={client} form={form} set={set} gear={gear} setGear={setGear} error={error} />
              <SessionSection
                client={client}
                form={form}
                set={set}
                secret={change}
                setSecret={setChange}
                error={error}
              />
              <LinesField
                label="Tags"
                field="tags"
                hint="key=value, one per line; used in conditions as client.key"
                value={tags}
                onChange={setTags}
                error={error}
                local={badTag && `${badTag} is not key=value`}
              />
              <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
              <Tick label="Switched on" checked={form.enabled} onChange={(enabled) => set({ enabled })} />
            </>
          )}
        </Editor>
      </div>
      {client && <Lately client={client} />}
    </div>
  );
}

/** Mode auto that has become require, and the way back. */
function Learned({ client }: { client: Client }) {
  const queries = useQueryClient();
  const forget = useMutation({
    mutationFn: () => call("POST", `/clients/${encodeURIComponent(client.id)}/unlearn`),
    onSettled: () => queries.invalidateQueries(),
  });
  if (!client.learned?.length) return null;
  return (
    <p className="hint mb-3">
      It was seen with a Message-Authenticator from {client.learned.join(", ")}, so it is required from there now.{" "}
      <Button onClick={() => forget.mutate()}>Accept requests without it again</Button>
      <Failure error={forget.error} />
    </p>
  );
}
