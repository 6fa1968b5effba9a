import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useDebounced, useObjects, useQueryText } from "../../api/hooks";
import {
  Button,
  ButtonLink,
  Empty,
  Failure,
  Notice,
  PageHead,
  rowKeys,
  sentence,
  Trail,
  Verdict,
  When,
} from "../../ui/basic";
import { lines, LinesField, TextField, Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { SheetImport } from "../../ui/sheet";

type Account = Schema["Account"];

/** Tells how many passwords of an import are still to be hashed. */
function Hashing() {
  const left = useQuery({
    queryKey: ["account-import"],
    queryFn: () => call<Schema["Hashing"]>("GET", "/account-import"),
    refetchInterval: (q) => (q.state.data?.left ? 2000 : false),
  });
  return left.data?.left ? (
    <Notice tone="wait">
      {left.data.left.toLocaleString()} imported passwords are still to be hashed, in the background. Until then they
      are kept sealed; these people can sign in.
    </Notice>
  ) : null;
}
import { ObjectHistory } from "../../ui/history";
import { Guard, useUnsaved } from "../../ui/guard";

export function PeoplePage() {
  const [q, setQ] = useQueryText();
  const [importing, setImporting] = useState(false);
  const go = useNavigate();
  const late = useDebounced(q);
  const list = useQuery({
    queryKey: ["accounts", late],
    queryFn: () => call<Schema["PageAccount"]>("GET", `/accounts?limit=500&q=${encodeURIComponent(late)}`),
    placeholderData: (b) => b,
  });
  return (
    <>
      <PageHead title="People" lead="local accounts; changes take effect at once">
        <input
          aria-label="Search accounts"
          placeholder="Name"
          className="field w-56"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <Button onClick={() => setImporting(true)}>Import CSV</Button>
        <ButtonLink primary to="/people/new">
          Add account
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      <Hashing />
      {list.data?.items.length === 0 ? (
        <Empty title={q ? "No matching account" : "No local account"}>
          People of a directory need none; local accounts are for those who are in no directory.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Person</th>
              <th>Groups</th>
              <th>State</th>
              <th>Changed</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((a) => (
              <tr key={a.id} {...rowKeys(() => go(`/people/${a.id}`))}>
                <td className="mono font-semibold">{a.name}</td>
                <td>{a.display}</td>
                <td>{a.groups.join(", ")}</td>
                <td>
                  <State a={a} />
                </td>
                <td className="text-soft">
                  <When at={a.changedAt} long /> by {a.changedBy}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Lookup />
      {list.data?.next && <p className="mt-2 text-[13px] text-soft">There are more. Search to find them.</p>}
      <Modal wide open={importing} onClose={() => setImporting(false)} title="Import local accounts from CSV">
        {importing && (
          <SheetImport
            path="/account-import"
            named="Name"
            hint={
              <>
                The first line names the columns: <code>name,person,mail,groups,enabled,expires,hash,password</code>.
                Only name is needed, and for a new account a password, or its hash by argon2id. Groups are separated by
                semicolons; what a line leaves out stays.
              </>
            }
          />
        )}
      </Modal>
    </>
  );
}

function State({ a }: { a: Account }) {
  if (!a.enabled) return <Verdict kind="out">disabled</Verdict>;
  if (a.expires && new Date(a.expires) < new Date()) return <Verdict kind="out">expired</Verdict>;
  if (a.openedAt) return <Verdict kind="out">seal broken</Verdict>;
  if (a.emergency) return <Verdict kind="wait">sealed</Verdict>;
  return <Verdict kind="in">may sign in</Verdict>;
}

/** Looks a person up in a directory of the draft. */
function Lookup() {
  const directories = useObjects("directories");
  const [where, setWhere] = useState("");
  const [name, setName] = useState("");
  const find = useMutation({
    mutationFn: (v: { where: string; name: string }) =>
      call<Schema["Found"]>("GET", `/directories/${encodeURIComponent(v.where)}/people/${encodeURIComponent(v.name)}`),
  });
  const factors = useQuery({
    queryKey: ["factors", name],
    queryFn: () => call<Schema["PageFactor"]>("GET", `/factors?limit=500&q=${encodeURIComponent(name)}`),
    enabled: !!find.data,
  });
  const items = directories.data?.items ?? [];
  if (items.length === 0) return null;
  const store = find.variables?.where ?? "";
  const enrolled = (person: string) => {
    const one = factors.data?.items.find((x) => x.person === person && x.store === store);
    return one ? (
      <Link className="underline" to={`/factors/${one.id}`}>
        {one.confirmed ? "enrolled" : "not confirmed"}
        {one.label && `, ${one.label}`}
      </Link>
    ) : (
      <>
        none,{" "}
        <Link
          className="underline"
          to={`/factors?enrol=${encodeURIComponent(person)}&store=${encodeURIComponent(store)}`}
        >
          enrol
        </Link>
      </>
    );
  };
  const p = find.data?.person;
  return (
    <section className="mt-8">
      <h2 className="mb-1.5">Find a person in a directory</h2>
      <form
        className="mb-3 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          find.mutate({ where: where || items[0].name, name });
        }}
      >
        <select
          aria-label="Directory"
          className="field w-44"
          value={where || items[0].name}
          onChange={(e) => setWhere(e.target.value)}
        >
          {items.map((d) => (
            <option key={d.id}>{d.name}</option>
          ))}
        </select>
        <input
          aria-label="Name of the person"
          placeholder="Name"
          className="field w-64"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Button type="submit" disabled={!name || find.isPending}>
          Find
        </Button>
      </form>
      <Failure error={find.error} />
      {find.data?.text && (
        <Notice tone="out">
          <b>{sentence(find.data.text)}</b> {find.data.remedy}
        </Notice>
      )}
      {p && (
        <dl className="mt-2 grid max-w-[760px] grid-cols-[130px_1fr] text-[13px]">
          {[
            ["person", p.display || p.name],
            ["second factor", enrolled(p.name)],
            ["DN", p.id],
            ["groups", p.groups?.join(", ")],
            ...Object.entries(p.attributes ?? {}).map(([k, v]) => [k, (v ?? []).join(", ")]),
          ].map(([k, v]) => (
            <div key={k as string} className="contents">
              <dt className="border-b border-hair py-1 text-soft">{k}</dt>
              <dd className="mono border-b border-hair py-1">{v || "-"}</dd>
            </div>
          ))}
        </dl>
      )}
    </section>
  );
}

export function AccountPage() {
  const { id = "" } = useParams();
  const one = useQuery({
    queryKey: ["accounts", "one", id],
    queryFn: () => call<Account>("GET", `/accounts/${id}`),
    enabled: id !== "new",
  });
  if (id === "new") return <AccountForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Account" />
        <Failure error={one.error} />
      </>
    );
  return <AccountForm key={one.data.tag} account={one.data} />;
}

/** What each choice means, and what it costs. */
const keeps: Record<string, string> = {
  hash: "Supports PAP, TTLS with PAP, PEAP or TTLS with GTC, and certificates. Nobody can read the password here.",
  "nt-hash":
    "Also supports MS-CHAPv2, alone or in PEAP, TTLS and TEAP. Anyone who has the database and the key file can sign in with the hash. Enter the password to create it.",
  password: "Also supports CHAP and EAP-MD5. Anyone who has the database and the key file can read the password.",
};

function AccountForm({ account }: { account?: Account }) {
  const queries = useQueryClient();
  const go = useNavigate();
  const [form, setForm] = useState({
    name: account?.name ?? "",
    display: account?.display ?? "",
    mail: account?.mail ?? "",
    groups: account?.groups ?? [],
    enabled: account?.enabled ?? true,
    expires: account?.expires?.slice(0, 10) ?? "",
    keeps: account?.keeps ?? "hash",
    emergency: account?.emergency ?? "",
  });
  const [sealed, setSealed] = useState("");
  const seal = useMutation({
    mutationFn: () => call<Schema["Sealed"]>("POST", `/accounts/${account!.id}/seal`),
    onSuccess: (s) => {
      setSealed(s.password);
      queries.invalidateQueries({ queryKey: ["now"] });
    },
  });
  const [password, setPassword] = useState("");
  const [asking, setAsking] = useState(false);
  const unsaved = useUnsaved(() => [form, password]);
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const save = useMutation({
    mutationFn: () => {
      const body = {
        ...form,
        groups: lines(form.groups),
        expires: form.expires ? new Date(form.expires + "T00:00:00Z").toISOString() : undefined,
        ...(password ? { password } : {}),
      };
      return account
        ? call("PUT", `/accounts/${account.id}`, body, { "If-Match": account.tag })
        : call("POST", "/accounts", body);
    },
    onSuccess: () => {
      unsaved.saved();
      queries.invalidateQueries();
      go("/people");
    },
  });
  const remove = useMutation({
    mutationFn: () => call("DELETE", `/accounts/${account!.id}`),
    onSuccess: () => {
      unsaved.saved();
      queries.invalidateQueries();
      go("/people");
    },
  });
  const needs = account?.emergency ? "configure" : "assist"; // those open gear while nothing else is asked
  return (
    <div className="max-w-[560px]">
      <Trail to="/people" of="People">
        {account?.name ?? "new"}
      </Trail>
      <PageHead title={account?.display || account?.name || "Add account"} lead={account && <State a={account} />} />
      <form
        {...unsaved.form}
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Guard of={unsaved} />
        <div className="mb-3">
          <Failure error={save.error ?? remove.error ?? seal.error} />
        </div>
        {account?.openedAt && !sealed && (
          <div className="mb-3">
            <Notice tone="out">
              <b>The seal is broken.</b> First used on {account.openedOn}, {new Date(account.openedAt).toLocaleString()}
              ; {account.uses} times since. Find out by whom, then seal it again.
            </Notice>
          </div>
        )}
        {sealed && (
          <div className="mb-3">
            <Notice tone="in">
              Sealed with a new password, shown only here:{" "}
              <code className="font-semibold select-all" data-secret>
                {sealed}
              </code>
              . Put it into the envelope.
            </Notice>
          </div>
        )}
        <TextField
          label="Name"
          field="name"
          mono
          hint="The name used to sign in, without realm."
          value={form.name}
          onChange={(name) => set({ name })}
          error={save.error}
        />
        <TextField
          label="Person"
          field="display"
          value={form.display}
          onChange={(display) => set({ display })}
          error={save.error}
        />
        <TextField
          label="Password"
          field="password"
          type="password"
          hint={account ? "Leave empty to keep the present one." : undefined}
          value={password}
          onChange={setPassword}
          error={save.error}
          autoComplete="new-password"
        />
        <Pick
          label="What is kept of the password"
          field="keeps"
          value={form.keeps}
          onChange={(keeps) => set({ keeps })}
          error={save.error}
          options={[
            { value: "hash", label: "only a hash (safest)" },
            { value: "nt-hash", label: "the NT hash too, sealed" },
            { value: "password", label: "the password itself, sealed" },
          ]}
          hint={keeps[form.keeps]}
        />
        <TextField label="Mail" field="mail" value={form.mail} onChange={(mail) => set({ mail })} error={save.error} />
        <LinesField
          label="Groups"
          field="groups"
          hint="One per line; used in conditions as group."
          value={form.groups}
          onChange={(groups) => set({ groups })}
          error={save.error}
        />
        <TextField
          label="Expires"
          field="expires"
          type="date"
          hint="From the start of this day, UTC. Leave empty for never."
          value={form.expires}
          onChange={(expires) => set({ expires })}
          error={save.error}
        />
        <TextField
          label="Emergency account for"
          field="emergency"
          mono
          hint={
            <>
              A condition over devices, such as <code>client.site is harbour-house</code>. It then works only for
              signing in to those, only while no directory answers, and loudly. Empty is an ordinary account.
            </>
          }
          value={form.emergency}
          onChange={(emergency) => set({ emergency })}
          error={save.error}
        />
        <Tick label="May sign in" checked={form.enabled} onChange={(enabled) => set({ enabled })} />
        <div className="flex gap-2 border-t border-hair pt-3">
          <Button primary type="submit" needs={needs} disabled={save.isPending}>
            {account ? "Save" : "Add"}
          </Button>
          {account?.emergency && (
            <Button needs="configure" disabled={seal.isPending} onClick={() => seal.mutate()}>
              Seal with a new password
            </Button>
          )}
          {account && (
            <Button danger needs={needs} className="ml-auto" onClick={() => setAsking(true)}>
              Remove
            </Button>
          )}
        </div>
      </form>
      {account && <ObjectHistory kind="account" object={account.id} />}
      <Modal open={asking} onClose={() => setAsking(false)} title={`Remove account ${form.name}?`}>
        <p className="mb-4">It is removed at once and cannot be restored.</p>
        <div className="flex gap-2">
          <Button danger onClick={() => remove.mutate()}>
            Remove
          </Button>
          <Button onClick={() => setAsking(false)}>Keep</Button>
        </div>
      </Modal>
    </div>
  );
}
