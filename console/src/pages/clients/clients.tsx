import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, call } from "../../api/client";
import { useDebounced, useDraft, useObject, useObjectPages, useObjects, useQueryText } from "../../api/hooks";
import { ago, Button, ButtonLink, Empty, Failure, Notice, PageHead, rowKeys, sentence, Verdict } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { lines, LinesField, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { Modal } from "../../ui/modal";
import { SheetImport } from "../../ui/sheet";
import { Bulk } from "./bulk";
import { DeviceSettings } from "../../ui/device-settings";
import { useFirstHour } from "../watch/first-hour";
import { type GearSecret, GearSection } from "./client-gear";
import { TLSSection } from "./client-tls";
import { type ChangeSecret, SessionSection } from "./client-sessions";
import { type Client, blank, keepMade, takeMade, type Made } from "./client";

const speaks = (c: Client) =>
  [c.secretSet && "RADIUS", (c.tacacsSecretSet || c.tacacsPlain) && "TACACS+", c.tlsNames.length > 0 && "TLS"]
    .filter(Boolean)
    .join(", ");

function State({ c }: { c: Client }) {
  if (!c.enabled) return <span className="text-soft">switched off</span>;
  if (c.problem?.current) return <Verdict kind="out">{c.problem.sentence}</Verdict>;
  if (c.lastSeen) return <Verdict kind="in">answers</Verdict>;
  return <Verdict kind="wait">never seen</Verdict>;
}

const tagText = (tags: Record<string, string>) => Object.entries(tags).map(([k, v]) => `${k}=${v}`);

export function ClientsPage() {
  const [q, setQ] = useQueryText();
  const [picked, setPicked] = useState<string[]>([]);
  const [all, setAll] = useState(false);
  const [changing, setChanging] = useState(false);
  const [importing, setImporting] = useState(false);
  const list = useObjectPages("clients", useDebounced(q), 5000);
  const unknown = useQuery({
    queryKey: ["contacts"],
    queryFn: async () => (await api.GET("/contacts", { params: { query: { unknown: true } } })).data!,
    refetchInterval: 5000,
  });
  const [params] = useSearchParams();
  const go = useNavigate();
  if (params.get("add")) return <ClientForm address={params.get("add")!} />;
  return (
    <>
      <PageHead title="Clients" lead="devices that may send requests">
        <input
          aria-label="Search clients"
          placeholder="Name, address, tag"
          className="field w-56"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <a
          href={`/api/v1/client-export?q=${encodeURIComponent(q)}`}
          download
          className="self-center text-[13px] text-soft underline"
        >
          Export CSV
        </a>
        <Button needs="configure" onClick={() => setImporting(true)}>
          Import CSV
        </Button>
        <ButtonLink primary to="/clients/new">
          Add client
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.items?.length === 0 ? (
        <Empty title={q ? "No matching client" : "No client yet"}>
          {!q && "Add the first switch, controller or VPN gateway: its address and its shared secret."}
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th className="w-6">
                <input
                  type="checkbox"
                  aria-label="Choose all that are shown"
                  checked={picked.length > 0 && picked.length === list.items?.length}
                  onChange={(e) => setPicked(e.target.checked ? (list.items ?? []).map((c) => c.id) : [])}
                />
              </th>
              <th>Name</th>
              <th>Addresses</th>
              <th>Tags</th>
              <th>Speaks</th>
              <th>Message-Authenticator</th>
              <th>State</th>
              <th>Last seen</th>
              <th className="!pr-0 !text-right">Discarded</th>
            </tr>
          </thead>
          <tbody>
            {list.items?.map((c) => (
              <tr key={c.id} {...rowKeys(() => go(`/clients/${c.id}`))}>
                <td onClick={(e) => e.stopPropagation()}>
                  <input
                    type="checkbox"
                    aria-label={`Choose ${c.name}`}
                    checked={picked.includes(c.id)}
                    onChange={(e) =>
                      setPicked(e.target.checked ? [...picked, c.id] : picked.filter((id) => id !== c.id))
                    }
                  />
                </td>
                <td className="font-semibold whitespace-nowrap">{c.name}</td>
                <td className="mono">{c.addresses.join(", ")}</td>
                <td className="mono text-soft">{tagText(c.tags).join(" ")}</td>
                <td>{speaks(c)}</td>
                <td>{c.secretSet ? c.messageAuthenticator : ""}</td>
                <td>
                  <State c={c} />
                </td>
                <td className="text-soft">{c.lastSeen ? ago(c.lastSeen) : ""}</td>
                <td className="mono pr-0 text-right">{c.dropped || ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {list.more && (
        <p className="mt-3 flex items-center gap-3 text-soft">
          <Button disabled={list.loading} onClick={list.more}>
            More
          </Button>
          The first {list.items?.length.toLocaleString()} by name are shown. Search to find one.
        </p>
      )}
      {picked.length > 0 && (
        <div className="sticky bottom-0 z-10 mt-3 flex flex-wrap items-center gap-3 border border-hair bg-sheet px-3 py-2 shadow-lg">
          <b>{picked.length.toLocaleString()} chosen</b>
          {list.more && picked.length === list.items?.length && (
            <Tick
              label={q ? "all that match, also those not shown" : "all there are, also those not shown"}
              checked={all}
              onChange={setAll}
            />
          )}
          <Button primary needs="configure" className="ml-auto" onClick={() => setChanging(true)}>
            Change them ...
          </Button>
          <Button onClick={() => setPicked([])}>Choose none</Button>
        </div>
      )}
      {changing && (
        <Bulk
          chosen={!all ? { clients: picked } : q ? { matching: q } : { all: true }}
          count={all ? undefined : picked.length}
          close={() => {
            setChanging(false);
            setPicked([]);
            setAll(false);
          }}
        />
      )}
      <Modal wide open={importing} onClose={() => setImporting(false)} title="Import clients from CSV">
        {importing && (
          <SheetImport
            path="/client-import"
            named="Name"
            hint={
              <>
                The first line names the columns:{" "}
                <code>name,addresses,tags,enabled,message_authenticator,note,secret</code>; only name is needed. A
                client of that name is changed, others are added to the draft; one without a secret is given one.
              </>
            }
          />
        )}
      </Modal>
      {(unknown.data?.items.length ?? 0) > 0 && (
        <>
          <h2 className="mt-6 mb-1.5">Unknown sources</h2>
          <table className="grid-table">
            <tbody>
              {unknown.data!.items.map((c) => (
                <tr key={c.address}>
                  <td className="mono w-44">{c.address}</td>
                  <td>
                    {sentence(c.sentence)} <span className="text-soft">{c.remedy}</span>
                  </td>
                  <td className="text-soft whitespace-nowrap">
                    {c.count} requests, {ago(c.last)}
                  </td>
                  <td className="text-right">
                    <ButtonLink to={`/clients?add=${c.address}`}>Add as client</ButtonLink>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}

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

function ClientForm({ client, address }: { client?: Client; address?: string }) {
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
    <div className="max-w-[720px]">
      <div className="text-[13px] text-soft">
        <Link to="/clients" className="hover:underline">
          Clients
        </Link>{" "}
        / {client?.name ?? "new"}
      </div>
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
            <SessionSection client={client} form={form} set={set} secret={change} setSecret={setChange} error={error} />
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
  );
}

/** What to set on the device. A secret that was just made is told here alone. */
function Settings({ made }: { made?: Made }) {
  const hour = useFirstHour();
  const waits = (useDraft().data?.changes.length ?? 0) > 0;
  const passes = useObjects("passes").data?.items ?? [];
  return (
    <DeviceSettings
      protocol={made?.protocol ?? "RADIUS"}
      servers={hour.data?.servers ?? []}
      secret={made?.secret}
      waits={waits}
      vlans={passes.filter((p) => p.vlan).map((p) => ({ vlan: p.vlan ?? "", pass: p.name }))}
    />
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
