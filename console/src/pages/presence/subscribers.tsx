import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject } from "../../api/hooks";
import { ago, ButtonLink, Empty, Failure, PageHead, rowKeys, Trail, Verdict } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { lines, LinesField, TextField, Tick } from "../../ui/form";
import { keepToken, Token, useToken } from "../../ui/token";
import { usePresenceState } from "./sources";

type Subscriber = Schema["Subscriber"];

const looks = { live: "in", behind: "wait", silent: "out", never: "wait", off: "wait" } as const;

/** Firewalls and programs that are told who is where, with how far each is. */
export function SubscribersPage() {
  const state = usePresenceState();
  const go = useNavigate();
  const list = state.data?.subscribers;
  return (
    <>
      <PageHead title="Subscribers" lead="firewalls and programs that are told who is where">
        <ButtonLink primary to="/subscribers/new">
          Add subscriber
        </ButtonLink>
      </PageHead>
      <Failure error={state.error} />
      {list?.length === 0 ? (
        <Empty title="Nobody is told">
          Add a firewall: it gets a token, follows changes as they happen, or fetches lists of addresses by group.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>State</th>
              <th>From</th>
              <th>Connected</th>
              <th>Last contact</th>
              <th>Last snapshot</th>
              <th className="!text-right">Told</th>
              <th className="!text-right">Behind</th>
            </tr>
          </thead>
          <tbody>
            {list?.map((o) => (
              <tr key={o.id} {...rowKeys(() => go(`/subscribers/${o.id}`))}>
                <td className="font-semibold">{o.name}</td>
                <td>
                  <Verdict kind={looks[o.state]}>{o.node ? `${o.says} at ${o.node}` : o.says}</Verdict>
                </td>
                <td className="mono">{o.from}</td>
                <td>{o.since && ago(o.since)}</td>
                <td>{o.contact && ago(o.contact)}</td>
                <td>{o.snapshot && ago(o.snapshot)}</td>
                <td className="text-right">{o.told.toLocaleString()}</td>
                <td className="text-right">{o.behind.toLocaleString()}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function SubscriberPage() {
  const { id = "" } = useParams();
  const one = useObject("subscribers", id);
  if (id === "new") return <SubscriberForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Subscriber" />
        <Failure error={one.error} />
      </>
    );
  return <SubscriberForm key={one.data.id} subscriber={one.data} />;
}

function SubscriberForm({ subscriber: o }: { subscriber?: Subscriber }) {
  const [form, setForm] = useState({
    name: o?.name ?? "",
    enabled: o?.enabled ?? true,
    from: o?.from ?? [],
    networks: o?.networks ?? [],
    groups: o?.groups ?? [],
    to: o?.to ?? "",
    note: o?.note ?? "",
  });
  const [another, setAnother] = useState(false);
  const [secret, setSecret] = useState("");
  const { token, setToken } = useToken(o?.id);
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const list = (field: "from" | "networks" | "groups", label: string, hint: string, error: unknown) => (
    <LinesField
      label={label}
      field={field}
      hint={hint}
      value={form[field]}
      onChange={(v) => set({ [field]: v })}
      error={error}
    />
  );
  return (
    <div className="max-w-[760px]">
      <Trail to="/subscribers" of="Subscribers">
        {o?.name ?? "new"}
      </Trail>
      <PageHead title={o?.name ?? "Add subscriber"} />
      {o && <Problems list={o.problems} />}
      <Token text={token} use="It follows /presence/v1/stream, or fetches /presence/v1/lists/GROUP.txt, with it." />
      <Editor
        kind="subscribers"
        noun="subscriber"
        object={o}
        body={() => ({
          ...form,
          from: lines(form.from),
          networks: lines(form.networks),
          groups: lines(form.groups),
          newToken: another,
          ...(secret ? { pushSecret: secret } : {}),
        })}
        onSaved={(saved) => {
          if (o) setToken(saved.secret ?? "");
          else keepToken(saved.id, saved.secret);
          setAnother(false);
          setSecret("");
        }}
      >
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <Tick label="Let it in" checked={form.enabled} onChange={(enabled) => set({ enabled })} />
            {list("from", "From", "Addresses or prefixes that it may come from, one a line. Empty for any.", error)}
            {list("networks", "Told of networks", "Prefixes, one a line. Empty for all.", error)}
            {list("groups", "Told of groups", "Groups of people, one a line. Empty for everybody.", error)}
            <div className="grid grid-cols-2 gap-x-3">
              <TextField
                label="Told as RADIUS accounting at"
                field="to"
                mono
                hint="host:port, for a firewall that cannot ask. Empty for one that does."
                value={form.to}
                onChange={(to) => set({ to })}
                error={error}
              />
              {form.to && (
                <TextField
                  label="Shared secret"
                  field="pushSecret"
                  type="password"
                  autoComplete="new-password"
                  hint={o?.pushSecretSet ? "One is set. Empty keeps it." : "As it is set on the firewall."}
                  value={secret}
                  onChange={setSecret}
                  error={error}
                />
              )}
            </div>
            {o?.tokenSet && (
              <Tick label="Make another token; the one before ends" checked={another} onChange={setAnother} />
            )}
            <TextField label="Note" field="note" value={form.note} onChange={(note) => set({ note })} error={error} />
          </>
        )}
      </Editor>
    </div>
  );
}
