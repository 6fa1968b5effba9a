import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, stream, type Schema } from "../api/client";
import { useObject, useObjects } from "../api/hooks";
import { Bar, Button, ButtonLink, Empty, Failure, millis, Notice, PageHead, rowKeys, sentence, Verdict } from "../ui/basic";
import { Editor, Problems } from "../ui/editor";
import { Field, lines, LinesField, Pick, TextField } from "../ui/form";

type Directory = Schema["Directory"];
type Step = Schema["DirectoryStep"];

export function DirectoriesPage() {
  const list = useObjects("directories");
  const go = useNavigate();
  return (
    <>
      <PageHead title="Directories" lead="where people and groups are kept"><ButtonLink primary to="/directories/new">Add directory</ButtonLink></PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? <Empty title="No directory yet">Add one, knowing its host and a service account; the test says what is missing. Or keep people here, as local accounts.</Empty> : (
        <table className="grid-table">
          <thead><tr><th>Name</th><th>Kind</th><th>Servers</th><th>TLS</th><th>Signs in as</th><th>Base</th><th>Member of</th><th /></tr></thead>
          <tbody>
            {list.data?.items.map((d) => (
              <tr key={d.id} {...rowKeys(() => go(`/directories/${d.id}`))}>
                <td className="font-semibold">{d.name}</td><td>{d.kind}</td><td className="mono">{d.servers.join(", ")}</td><td>{d.tls}</td><td className="mono">{d.bindName || "anonymous"}</td><td className="mono">{d.base || "named by the server"}</td><td>{d.computer ? `${d.domain} as ${d.computer}$` : ""}</td>
                <td className="text-out">{d.problems.length > 0 && `${d.problems.length} to look at`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function DirectoryPage() {
  const { id = "" } = useParams();
  const one = useObject("directories", id);
  if (id === "new") return <DirectoryForm />;
  if (!one.data) return <><PageHead title="Directory" /><Failure error={one.error} /></>;
  return <DirectoryForm key={one.data.id + one.data.computer} directory={one.data} />;
}

const blank = { name: "", kind: "active-directory", servers: [] as string[], tls: "ldaps", ca: "", serverName: "", bindName: "", base: "", groupBase: "", attributes: [] as string[], timeoutMillis: 3000, note: "" };

function DirectoryForm({ directory }: { directory?: Directory }) {
  const [form, setForm] = useState<typeof blank>(directory ?? blank);
  const [password, setPassword] = useState("");
  const set = (patch: Partial<typeof blank>) => setForm({ ...form, ...patch });
  const body = () => ({
    name: form.name, kind: form.kind, servers: lines(form.servers), tls: form.tls, ca: form.ca, serverName: form.serverName, bindName: form.bindName, base: form.base,
    groupBase: form.groupBase, attributes: lines(form.attributes), timeoutMillis: Number(form.timeoutMillis), note: form.note, ...(password ? { bindPassword: password } : {}),
  });
  return (
    <>
      <div className="text-[13px] text-soft"><Link to="/directories" className="hover:underline">Directories</Link> / {directory?.name ?? "new"}</div>
      <PageHead title={directory?.name ?? "Add directory"} />
      <div className="grid grid-cols-[minmax(380px,460px)_1fr] gap-8">
        <div>
          {directory && <Problems list={directory.problems} />}
          <Editor kind="directories" noun="directory" object={directory} body={body}>
            {(error) => (
              <>
                <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
                <Pick label="Kind" field="kind" value={form.kind} onChange={(kind) => set({ kind })} error={error} options={[{ value: "active-directory", label: "Active Directory kind" }, { value: "generic", label: "generic: inetOrgPerson, posixAccount" }]} />
                <LinesField label="Servers" field="servers" hint="Host or address, one a line, in the order to try. The port is added by itself." value={form.servers} onChange={(servers) => set({ servers })} error={error} />
                <Pick label="Connection" field="tls" value={form.tls} onChange={(tls) => set({ tls })} error={error} options={[{ value: "ldaps", label: "ldaps: TLS from the first octet, port 636" }, { value: "starttls", label: "starttls: TLS after a request, port 389" }, { value: "plain", label: "plain: passwords cross the network in clear" }]} />
                <TextField label="Sign in as" field="bindName" mono hint="DN, name@domain, DOMAIN\name, or a bare name. Reading people and groups is all it needs." value={form.bindName} onChange={(bindName) => set({ bindName })} error={error} />
                <TextField label="Password" field="bindPassword" type="password" hint={directory?.bindPasswordSet ? "Empty keeps the present one." : undefined} value={password} onChange={setPassword} error={error} autoComplete="new-password" />
                <Field label="Trusted authority" name="ca" error={error} hint="PEM. Empty trusts the authorities of the operating system.">
                  {(p) => <textarea {...p} rows={3} className="field mono block text-[11px]" spellCheck={false} value={form.ca} onChange={(e) => set({ ca: e.target.value })} placeholder="-----BEGIN CERTIFICATE-----" />}
                </Field>
                <details className="mb-3"><summary className="cursor-pointer text-[13px] text-soft">Further settings</summary>
                  <div className="mt-2">
                    <TextField label="Base DN" field="base" mono hint="Empty asks the server." value={form.base} onChange={(base) => set({ base })} error={error} />
                    <TextField label="Base DN of groups" field="groupBase" mono hint="Empty is the base." value={form.groupBase} onChange={(groupBase) => set({ groupBase })} error={error} />
                    <TextField label="Name in the certificate" field="serverName" mono hint="If it is not the host above." value={form.serverName} onChange={(serverName) => set({ serverName })} error={error} />
                    <LinesField label="Attributes to read" field="attributes" hint="They become facts, such as person.department." value={form.attributes} onChange={(attributes) => set({ attributes })} error={error} />
                    <TextField label="Time limit, milliseconds" field="timeoutMillis" type="number" value={String(form.timeoutMillis)} onChange={(v) => set({ timeoutMillis: Number(v) })} error={error} />
                    <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
                  </div>
                </details>
              </>
            )}
          </Editor>
        </div>
        <div>
          <TestPanel body={body} id={directory?.id} />
          {directory?.kind === "active-directory" && <Membership directory={directory} />}
        </div>
      </div>
    </>
  );
}

/** Joins the domain, so that MS-CHAP can be checked for its people. */
function Membership({ directory }: { directory: Directory }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ name: "", password: "", computer: "", ou: "" });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const done = { onSuccess: () => queries.invalidateQueries() };
  const join = useMutation({ mutationFn: () => call<Schema["Joined"]>("POST", `/directories/${directory.id}/join`, form), ...done });
  const leave = useMutation({ mutationFn: () => call("POST", `/directories/${directory.id}/leave`), ...done });
  return (
    <section aria-label="Membership" className="mt-8 border-l border-hair pl-8">
      <h2 className="mb-1">Membership of the domain</h2>
      <Failure error={join.error ?? leave.error} />
      {directory.computer ? (
        <>
          <p className="mb-3"><Verdict kind="in">Member of {directory.domain}</Verdict> as <code>{directory.computer}$</code>. MS-CHAPv2 is checked by its domain controllers.</p>
          <Button danger disabled={leave.isPending} onClick={() => leave.mutate()}>Leave the domain</Button>
          <p className="hint mt-2">Leaving is part of the draft; the machine account stays in the domain until somebody removes it.</p>
        </>
      ) : (
        <form onSubmit={(e) => { e.preventDefault(); join.mutate(); }}>
          <p className="mb-3 text-soft">A directory hands out no hashes. As a member of the domain this server asks its controllers, and people can use PEAP with MS-CHAPv2 as their devices do by themselves.</p>
          <div className="grid max-w-[560px] grid-cols-2 gap-x-4">
            <TextField label="Who may create computers" field="name" mono hint="Used once, and not kept. It needs the right to create computer objects in the container, and nothing else." value={form.name} onChange={(name) => set({ name })} error={join.error} />
            <TextField label="Its password" field="password" type="password" value={form.password} onChange={(password) => set({ password })} error={join.error} autoComplete="new-password" />
            <TextField label="Machine account" field="computer" mono hint="A name for this server, at most 15 characters. Each of several servers needs its own." value={form.computer} onChange={(computer) => set({ computer })} error={join.error} />
            <TextField label="Container" field="ou" mono hint="A DN; empty is the one that the domain keeps for computers." value={form.ou} onChange={(ou) => set({ ou })} error={join.error} />
          </div>
          <Button primary type="submit" disabled={!form.name || !form.password || !form.computer || join.isPending}>{join.isPending ? "Joining …" : "Join the domain"}</Button>
        </form>
      )}
    </section>
  );
}

const glyph = { running: "wait", pass: "in", warn: "wait", fail: "out" } as const;
const tone = { running: "text-soft", pass: "text-in", warn: "text-brass-ink", fail: "text-out" };

/** Tests what is typed, saved or not, and shows each step as it happens. */
function TestPanel({ body, id }: { body: () => object; id?: string }) {
  const [steps, setSteps] = useState<Step[]>([]);
  const [person, setPerson] = useState("");
  const [state, setState] = useState<"idle" | "running" | "ok" | "failed">("idle");
  const [error, setError] = useState<unknown>(null);
  const stop = useRef<AbortController>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const run = async () => {
    stop.current?.abort();
    const mine = (stop.current = new AbortController());
    setSteps([]);
    setError(null);
    setState("running");
    let ended = false;
    try {
      await stream("/directory-test", { ...body(), ...(id ? { id } : {}), ...(person ? { person } : {}) }, mine.signal, (name, data) => {
        if (name === "end") {
          ended = true;
          setState((data as { ok: boolean }).ok ? "ok" : "failed");
          return;
        }
        const step = data as Step;
        setSteps((old) => {
          const at = old.findIndex((s) => s.key === step.key && s.server === step.server);
          return at < 0 ? [...old, step] : old.map((s, i) => (i === at ? step : s));
        });
      });
      if (!ended) setState("failed");
    } catch (e) {
      if (!mine.signal.aborted) {
        setError(e);
        setState("failed");
      } else setState((s) => (s === "running" ? "idle" : s));
    }
  };
  const found = steps.find((s) => s.person)?.person;
  return (
    <section aria-label="Test" className="border-l border-hair pl-8">
      <h2 className="mb-1">Test</h2>
      <p className="mb-3 text-soft">Tries every link with what is typed on the left, saved or not. It changes nothing.</p>
      <form className="mb-3 flex gap-2" onSubmit={(e) => { e.preventDefault(); run(); }}>
        <input aria-label="Person to look up" placeholder="Also look up a person, such as s.lodge" className="field max-w-72" value={person} onChange={(e) => setPerson(e.target.value)} />
        {state === "running" ? <Button onClick={() => stop.current?.abort()}>Cancel</Button> : <Button primary type="submit">Test now</Button>}
      </form>
      <Failure error={error} />
      {steps.length > 0 && (
        <table className="grid-table" aria-live="polite"><tbody>
          {steps.map((s) => (
            <tr key={s.key + (s.server ?? "")}>
              <td className={`w-7 ${tone[s.state]}`}><Bar kind={glyph[s.state]} /></td>
              <td className="w-44"><b>{s.title}</b>{s.server && <div className="mono text-soft">{s.server}</div>}</td>
              <td><span className={s.state === "fail" ? "text-out" : ""}>{s.state === "running" ? "..." : s.detail}</span>{s.remedy && <div className="font-semibold">{sentence(s.remedy)}</div>}</td>
              <td className="mono w-20 text-right text-soft">{s.state !== "running" && millis(s.micros)}</td>
            </tr>
          ))}
        </tbody></table>
      )}
      {state === "ok" && <div className="mt-3"><Notice tone="in"><b>Every step passed.</b></Notice></div>}
      {state === "failed" && steps.length > 0 && <div className="mt-3"><Notice tone="out"><b>The test failed</b> at the step marked above.</Notice></div>}
      {found && (
        <div className="mt-4">
          <h2 className="mb-1">{found.display || found.name}</h2>
          <dl className="grid grid-cols-[130px_1fr] text-[13px]">
            {[["DN", found.id], ["name", found.name], ["groups", found.groups?.join(", ")], ["state", found.state === "ok" ? "may sign in" : found.state], ...Object.entries(found.attributes ?? {}).map(([k, v]) => [k, (v ?? []).join(", ")])].map(([k, v]) => (
              <div key={k} className="contents"><dt className="border-b border-hair py-1 text-soft">{k}</dt><dd className="mono border-b border-hair py-1">{v || "-"}</dd></div>
            ))}
          </dl>
        </div>
      )}
    </section>
  );
}
