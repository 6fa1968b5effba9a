import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, millis, PageHead, rowKeys, Trail, Verdict } from "../../ui/basic";
import { Editor, Problems, type Retagged } from "../../ui/editor";
import { Field, lines, LinesField, TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { Connect } from "./directory-connect";
import { DirectoryPanels, TestPanel } from "./directory-panels";

type Directory = Schema["Directory"];

export function DirectoriesPage() {
  const list = useObjects("directories");
  const checked = useQuery({
    queryKey: ["checkup"],
    queryFn: () => call<Schema["Checkup"]>("GET", "/checkup"),
    refetchInterval: 10_000,
  });
  const of = (d: Directory) => checked.data?.lines.filter((l) => l.subject === d.name) ?? [];
  const go = useNavigate();
  return (
    <>
      <PageHead title="Directories" lead="where people and groups are kept">
        <ButtonLink primary to="/directories/new">
          Add directory
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No directory yet">
          Add one, knowing its host and a service account; the test says what is missing. Or keep people here, as local
          accounts.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>State</th>
              <th>Servers</th>
              <th>Answers in</th>
              <th className="!text-right">People</th>
              <th className="!text-right">Groups</th>
              <th>Signs in as</th>
              <th>Member of</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((d) => (
              <tr key={d.id} {...rowKeys(() => go(`/directories/${d.id}`))}>
                <td className="font-semibold">{d.name}</td>
                <td>
                  <Health lines={of(d)} />
                </td>
                <td className="mono">
                  {d.servers.join(", ")} <span className="text-soft">{d.tls}</span>
                </td>
                <td className="mono">
                  {of(d)
                    .filter((l) => l.key === "bind" && l.state === "pass")
                    .map((l) => millis(l.micros))
                    .join(", ")}
                </td>
                <td className="mono text-right">{counted(of(d), "people")}</td>
                <td className="mono text-right">{counted(of(d), "groups")}</td>
                <td className="mono">{d.bindName || "anonymous"}</td>
                <td>{d.computer ? `${d.domain} as ${d.computer}$` : ""}</td>
                <td className="text-out">{d.problems.length > 0 && `${d.problems.length} to look at`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

type Line = Schema["ResultsLine"];

/** What the last checkup said of a directory. */
function Health({ lines }: { lines: Line[] }) {
  if (lines.length === 0) return <span className="text-soft">not checked yet</span>;
  const failed = lines.find((l) => l.state === "fail");
  if (failed) return <Verdict kind="out">{failed.title}: failed</Verdict>;
  const warnings = lines.filter((l) => l.state === "warn").length;
  if (warnings > 0) return <Verdict kind="wait">answers, {warnings} to look at</Verdict>;
  return <Verdict kind="in">answers</Verdict>;
}

const counted = (lines: Line[], key: string) => lines.find((l) => l.key === key && l.state === "pass")?.detail ?? "";

export function DirectoryPage() {
  const { id = "" } = useParams();
  const one = useObject("directories", id);
  if (id === "new") return <DirectoryForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Directory" />
        <Failure error={one.error} />
      </>
    );
  return <DirectoryForm key={one.data.id + one.data.computer} directory={one.data} />;
}

const blank = {
  name: "",
  kind: "active-directory",
  servers: [] as string[],
  tls: "ldaps",
  ca: "",
  serverName: "",
  bindName: "",
  base: "",
  groupBase: "",
  attributes: [] as string[],
  timeoutMillis: 3000,
  cacheSeconds: 60,
  dns: "",
  source: "",
  guardAfter: 0,
  copyBelow: [] as string[],
  copyWanted: [] as string[],
  copyMinutes: 0,
  note: "",
};

function DirectoryForm({ directory }: { directory?: Directory }) {
  const [form, setForm] = useState<typeof blank>(directory ?? blank);
  const [password, setPassword] = useState("");
  const [changed, setChanged] = useState<Retagged>();
  const set = (patch: Partial<typeof blank>) => setForm({ ...form, ...patch });
  const take = (found: Partial<typeof blank>, bindPassword: string) => {
    set(found);
    setPassword(bindPassword);
  };
  const body = () => ({
    groups: directory?.groups ?? [],
    cacheSeconds: Number(form.cacheSeconds),
    dns: form.dns,
    source: form.source,
    guardAfter: Number(form.guardAfter),
    copyBelow: lines(form.copyBelow),
    copyWanted: lines(form.copyWanted),
    copyMinutes: Number(form.copyMinutes),
    name: form.name,
    kind: form.kind,
    servers: lines(form.servers),
    tls: form.tls,
    ca: form.ca,
    serverName: form.serverName,
    bindName: form.bindName,
    base: form.base,
    groupBase: form.groupBase,
    attributes: lines(form.attributes),
    timeoutMillis: Number(form.timeoutMillis),
    note: form.note,
    ...(password ? { bindPassword: password } : {}),
  });
  return (
    <>
      <Trail to="/directories" of="Directories">
        {directory?.name ?? "new"}
      </Trail>
      <PageHead title={directory?.name ?? "Add directory"} />
      {!directory && <Connect take={take} />}
      <div className="grid gap-8 *:min-w-0 lg:grid-cols-[minmax(380px,460px)_minmax(0,1fr)]">
        <div>
          {directory && <Problems list={directory.problems} />}
          <Editor kind="directories" noun="directory" object={directory} body={body} accepted={changed}>
            {(error) => (
              <>
                <TextField
                  label="Name"
                  field="name"
                  value={form.name}
                  onChange={(name) => set({ name })}
                  error={error}
                />
                <Pick
                  label="Kind"
                  field="kind"
                  value={form.kind}
                  onChange={(kind) => set({ kind })}
                  error={error}
                  options={[
                    { value: "active-directory", label: "Active Directory kind" },
                    { value: "generic", label: "generic: inetOrgPerson, posixAccount" },
                  ]}
                />
                <LinesField
                  label="Servers"
                  field="servers"
                  hint="Host or address, one per line, in the order to try them. The port is added automatically."
                  value={form.servers}
                  onChange={(servers) => set({ servers })}
                  error={error}
                />
                <Pick
                  label="Connection"
                  field="tls"
                  value={form.tls}
                  onChange={(tls) => set({ tls })}
                  error={error}
                  options={[
                    { value: "ldaps", label: "ldaps: TLS from the first octet, port 636" },
                    { value: "starttls", label: "starttls: TLS after a request, port 389" },
                    { value: "plain", label: "plain: passwords cross the network in clear" },
                  ]}
                />
                <TextField
                  label="Sign in as"
                  field="bindName"
                  mono
                  hint="DN, name@domain, DOMAIN\name, or a bare name. It only needs to read people and groups."
                  value={form.bindName}
                  onChange={(bindName) => set({ bindName })}
                  error={error}
                />
                <TextField
                  label="Password"
                  field="bindPassword"
                  type="password"
                  hint={directory?.bindPasswordSet ? "Leave empty to keep the present one." : undefined}
                  value={password}
                  onChange={setPassword}
                  error={error}
                  autoComplete="new-password"
                />
                <Field
                  label="Trusted authority"
                  name="ca"
                  error={error}
                  hint="PEM. If left empty, the authorities of the operating system are trusted."
                >
                  {(p) => (
                    <textarea
                      {...p}
                      rows={3}
                      className="field mono block text-[11px]"
                      spellCheck={false}
                      value={form.ca}
                      onChange={(e) => set({ ca: e.target.value })}
                      placeholder="-----BEGIN CERTIFICATE-----"
                    />
                  )}
                </Field>
                <details className="mb-3">
                  <summary className="cursor-pointer text-[13px] text-soft">Further settings</summary>
                  <div className="mt-2">
                    <TextField
                      label="Base DN"
                      field="base"
                      mono
                      hint="If left empty, the server is asked."
                      value={form.base}
                      onChange={(base) => set({ base })}
                      error={error}
                    />
                    <TextField
                      label="Base DN of groups"
                      field="groupBase"
                      mono
                      hint="If left empty, the base DN is used."
                      value={form.groupBase}
                      onChange={(groupBase) => set({ groupBase })}
                      error={error}
                    />
                    <TextField
                      label="Name in the certificate"
                      field="serverName"
                      mono
                      hint="If it differs from the host above."
                      value={form.serverName}
                      onChange={(serverName) => set({ serverName })}
                      error={error}
                    />
                    <LinesField
                      label="Attributes to read"
                      field="attributes"
                      hint="They become facts such as person.department."
                      value={form.attributes}
                      onChange={(attributes) => set({ attributes })}
                      error={error}
                    />
                    <TextField
                      label="Time limit (ms)"
                      field="timeoutMillis"
                      type="number"
                      value={String(form.timeoutMillis)}
                      onChange={(v) => set({ timeoutMillis: Number(v) })}
                      error={error}
                    />
                    <TextField
                      label="Cache people (seconds)"
                      field="cacheSeconds"
                      type="number"
                      hint="0 looks people up at every attempt."
                      value={String(form.cacheSeconds)}
                      onChange={(v) => set({ cacheSeconds: Number(v) })}
                      error={error}
                    />
                    <TextField
                      label="Stop passing on passwords after this many failures"
                      field="guardAfter"
                      type="number"
                      hint="0 follows the lockout rule of the domain, so it never locks an account; -1 passes all of them on."
                      value={String(form.guardAfter)}
                      onChange={(v) => set({ guardAfter: Number(v) })}
                      error={error}
                    />
                    <LinesField
                      label="Copy people below"
                      field="copyBelow"
                      hint="DNs, one per line; leave empty to copy nobody."
                      value={form.copyBelow}
                      onChange={(copyBelow) => set({ copyBelow })}
                      error={error}
                      rows={1}
                    />
                    <LinesField
                      label="Attributes that they should have"
                      field="copyWanted"
                      hint="People who lack one are listed."
                      value={form.copyWanted}
                      onChange={(copyWanted) => set({ copyWanted })}
                      error={error}
                      rows={1}
                    />
                    <TextField
                      label="Copy interval, minutes"
                      field="copyMinutes"
                      type="number"
                      hint="0 copies on demand only."
                      value={String(form.copyMinutes)}
                      onChange={(v) => set({ copyMinutes: Number(v) })}
                      error={error}
                    />
                    <TextField
                      label="DNS servers"
                      field="dns"
                      mono
                      hint="Separated by commas. If left empty, those of this machine are used."
                      value={form.dns}
                      onChange={(dns) => set({ dns })}
                      error={error}
                    />
                    <TextField
                      label="Connect from"
                      field="source"
                      mono
                      hint="An address of this machine; leave empty to let the system choose."
                      value={form.source}
                      onChange={(source) => set({ source })}
                      error={error}
                    />
                    <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
                  </div>
                </details>
              </>
            )}
          </Editor>
        </div>
        <div className="min-w-0 border-l border-hair pl-8">
          {directory ? (
            <DirectoryPanels directory={directory} body={body} changed={setChanged} />
          ) : (
            <TestPanel body={body} />
          )}
        </div>
      </div>
    </>
  );
}
