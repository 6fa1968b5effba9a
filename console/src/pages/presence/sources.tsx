import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useObject } from "../../api/hooks";
import { ago, Button, ButtonLink, Failure, Notice, PageHead, rowKeys, sentence, Trail, Verdict } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, lines, LinesField, NumberField, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { keepToken, Token, useToken } from "../../ui/token";
import { addressPage } from "./list";
import { kinds } from "./sightings";

type State = Schema["PresenceState"];
type Source = Schema["Source"];

export const ways: Record<string, string> = {
  reports: "reports over HTTPS",
  logons: "logon events of domain controllers",
  hosts: "hosts, of themselves",
  dhcp: "copies of DHCP messages",
  syslog: "syslog",
  sessions: "our own sessions",
  attempts: "our own attempts",
  accounting: "accounting without an attempt of ours",
  operators: "operators by hand",
  portal: "the pages for people",
};

export const usePresenceState = () =>
  useQuery({
    queryKey: ["presence", "state"],
    queryFn: () => call<State>("GET", "/presence/state"),
    refetchInterval: 3000,
  });

const looks = { reports: "in", silent: "wait", never: "wait", refused: "out", off: "wait" } as const;

/** Where sightings come from, with how each does. */
export function SourcesPage() {
  const go = useNavigate();
  const state = usePresenceState();
  const s = state.data;
  return (
    <>
      <PageHead title="Sources" lead="who reports who is where, the most trusted first">
        <ButtonLink primary to="/sources/new">
          Add source
        </ButtonLink>
      </PageHead>
      <Failure error={state.error} />
      <div className="space-y-2">
        {s?.warnings.map((w) => (
          <Notice key={w} tone="warn">
            {sentence(w)}
          </Notice>
        ))}
      </div>
      <table className="grid-table mb-6">
        <thead>
          <tr>
            <th>Source</th>
            <th>Reports by</th>
            <th className="!text-right">Trust</th>
            <th className="!text-right">Holds</th>
            <th className="!text-right">Taken</th>
            <th className="!text-right">Left out</th>
            <th className="!text-right">Refused</th>
            <th>State</th>
          </tr>
        </thead>
        <tbody>
          {s?.sources.map((one) => (
            <tr key={one.name} {...(one.id ? rowKeys(() => go(`/sources/${one.id}`)) : {})}>
              <td className="font-semibold">{one.name}</td>
              <td>{ways[one.way]}</td>
              <td className="text-right">{one.trust}</td>
              <td className="text-right whitespace-nowrap">{one.minutes} min</td>
              <td className="text-right">{one.taken.toLocaleString()}</td>
              <td className="text-right">{one.leftOut.toLocaleString()}</td>
              <td className="text-right">{(one.refused + one.unread).toLocaleString()}</td>
              <td>
                <span className="flex items-center gap-2">
                  <Verdict kind={looks[one.state]}>{one.state === "refused" ? "refused" : one.says}</Verdict>
                  <span className="text-[12.5px] text-soft">
                    {one.state === "refused" ? one.says : one.seen && ago(one.seen)}
                    {one.node && `, at ${one.node}`}
                  </span>
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {s && s.strangers.length > 0 && (
        <>
          <h2 className="mb-1">Report, but are no sources</h2>
          <table className="grid-table mb-6">
            <tbody>
              {s.strangers.map((one) => (
                <tr key={one.way + one.address + one.node}>
                  <td className="mono">{one.address}</td>
                  <td>{ways[one.way]}</td>
                  <td className="text-soft">
                    {one.count.toLocaleString()} messages, the last {ago(one.last)}
                    {one.node && `, at ${one.node}`}
                  </td>
                  <td className="text-right">
                    <ButtonLink to={`/sources/new?way=${one.way}&from=${one.address}`}>Add as source</ButtonLink>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      {s && s.conflicts.length > 0 && (
        <>
          <h2 className="mb-1">Conflicts now</h2>
          <table className="grid-table">
            <tbody>
              {s.conflicts.map((c, i) => (
                <tr key={i}>
                  <td className="mono">
                    <Link to={addressPage(c.address)} className="hover:underline">
                      {c.address} {c.ports}
                    </Link>
                  </td>
                  <td className="font-semibold">{c.display || c.who}</td>
                  <td>{c.source}</td>
                  <td className="text-soft">{c.says}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}

export function SourcePage() {
  const { id = "" } = useParams();
  const one = useObject("sources", id);
  if (id === "new") return <SourceForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Source" />
        <Failure error={one.error} />
      </>
    );
  return <SourceForm key={one.data.id} source={one.data} />;
}

function SourceForm({ source: o }: { source?: Source }) {
  const wanted = new URLSearchParams(location.search);
  const [form, setForm] = useState({
    name: o?.name ?? "",
    enabled: o?.enabled ?? true,
    way: o?.way ?? ((wanted.get("way") ?? "syslog") as Source["way"]),
    from: o?.from ?? (wanted.get("from") ? [wanted.get("from")!] : []),
    trust: o?.trust ?? 0,
    minutes: o?.minutes ?? 0,
    shared: o?.shared ?? false,
    readers: o?.readers ?? [],
    note: o?.note ?? "",
  });
  const [another, setAnother] = useState(false);
  const { token, setToken } = useToken(o?.id);
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const tokens = form.way === "reports" || form.way === "hosts" || form.way === "logons";
  return (
    <div className="max-w-[760px]">
      <Trail to="/sources" of="Sources">
        {o?.name ?? "new"}
      </Trail>
      <PageHead title={o?.name ?? "Add source"} />
      {o && <Problems list={o.problems} />}
      <Token
        text={token}
        use={
          {
            logons: "Events go to /presence/v1/logons with it as bearer.",
            hosts: "Put it into the file that tollgate-reporter is started with on each host: -token-file.",
          }[form.way as string] ?? "Reports go to /presence/v1/sightings with it as bearer."
        }
      />
      <Editor
        kind="sources"
        noun="source"
        object={o}
        body={() => ({ ...form, from: lines(form.from), newToken: another })}
        onSaved={(saved) => {
          if (o) setToken(saved.secret ?? "");
          else keepToken(saved.id, saved.secret);
          setAnother(false);
        }}
      >
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <Tick label="Take what it reports" checked={form.enabled} onChange={(enabled) => set({ enabled })} />
            <Pick
              label="Reports by"
              field="way"
              value={form.way}
              onChange={(way) => set({ way: way as Source["way"] })}
              error={error}
              hint={
                form.way === "hosts"
                  ? "A host tells who is signed in there, by tollgate-reporter. It can say so of its own address alone."
                  : undefined
              }
              options={Object.entries(ways).map(([value, label]) => ({ value, label }))}
            />
            <LinesField
              label="From"
              field="from"
              hint={
                tokens
                  ? "Addresses or prefixes that it may report from, one a line. Empty for any."
                  : "Addresses or prefixes that it sends from, one a line: whoever else sends is not heard."
              }
              value={form.from}
              onChange={(from) => set({ from })}
              error={error}
            />
            {tokens && o?.tokenSet && (
              <Tick label="Make another token; the one before ends" checked={another} onChange={setAnother} />
            )}
            <div className="grid grid-cols-2 gap-3">
              <NumberField
                label="Trust"
                field="trust"
                hint="1 counts most, 9 least; 0 is that of its kind. Of two people at an address the more trusted source decides."
                value={form.trust}
                onChange={(trust) => set({ trust })}
                error={error}
              />
              <NumberField
                label="Holds (minutes)"
                field="minutes"
                hint="How long a report counts without another one; 0 is that of its kind."
                value={form.minutes}
                onChange={(minutes) => set({ minutes })}
                error={error}
              />
            </div>
            <Tick
              label="Several people may be at one address, as it reports them"
              checked={form.shared}
              onChange={(shared) => set({ shared })}
            />
            {form.way === "syslog" && (
              <Readers value={form.readers} onChange={(readers) => set({ readers })} error={error} />
            )}
            <TextField label="Note" field="note" value={form.note} onChange={(note) => set({ note })} error={error} />
          </>
        )}
      </Editor>
    </div>
  );
}

type Reader = Schema["ConfigSourceReader"];

/** Forms of lines, which are tried on pasted lines in place. */
function Readers({ value, onChange, error }: { value: Reader[]; onChange: (r: Reader[]) => void; error: unknown }) {
  const [pasted, setPasted] = useState<string[]>([]);
  const check = useMutation({
    mutationFn: () =>
      call<{ items: Schema["ReadLine"][] }>("POST", "/sources/check", { readers: value, lines: lines(pasted) }),
  });
  const put = (i: number, patch: Partial<Reader>) => onChange(value.map((r, n) => (n === i ? { ...r, ...patch } : r)));
  return (
    <fieldset className="mb-4">
      <legend className="mb-1 text-[12.5px] font-semibold">Forms of lines, the first that fits</legend>
      <p className="hint mb-2">
        Paste a line, and put <code>{"{who}"}</code>, <code>{"{address}"}</code>, <code>{"{mac}"}</code>,{" "}
        <code>{"{host}"}</code> or <code>{"{ports}"}</code> in the place of what changes, and <code>{"{}"}</code> for
        what does not matter.
      </p>
      {value.map((r, i) => (
        <div key={i} className="grid grid-cols-[1fr_170px_auto] items-start gap-2">
          <TextField
            label={`Form ${i + 1}`}
            field={`readers[${i}].pattern`}
            mono
            value={r.pattern}
            onChange={(pattern) => put(i, { pattern })}
            error={error ?? check.error}
          />
          <Pick
            label="It means"
            field={`readers[${i}].means`}
            value={r.means}
            onChange={(means) => put(i, { means: means as Reader["means"] })}
            options={Object.entries(kinds).map(([v, label]) => ({ value: v, label }))}
          />
          <Button
            className="mt-6"
            aria-label={`Remove form ${i + 1}`}
            onClick={() => onChange(value.filter((_, n) => n !== i))}
          >
            Remove
          </Button>
        </div>
      ))}
      <Button className="mb-3" onClick={() => onChange([...value, { pattern: "", means: "signed-in" }])}>
        Add form
      </Button>
      <Field label="Lines to try them on" name="lines">
        {(p) => (
          <textarea
            {...p}
            rows={3}
            className="field mono block"
            spellCheck={false}
            value={pasted.join("\n")}
            onChange={(e) => setPasted(e.target.value.split("\n"))}
          />
        )}
      </Field>
      <Button
        disabled={check.isPending || value.length === 0 || lines(pasted).length === 0}
        onClick={() => check.mutate()}
      >
        Try
      </Button>
      <Failure error={check.error} />
      {check.data && (
        <table className="grid-table mt-2">
          <tbody>
            {check.data.items.map((one, i) => (
              <tr key={i}>
                <td className="mono max-w-80 truncate" title={one.line}>
                  {one.line}
                </td>
                <td>
                  {one.reader === 0 ? (
                    <Verdict kind="wait">no form fits</Verdict>
                  ) : one.fault ? (
                    <Verdict kind="out">{one.fault}</Verdict>
                  ) : (
                    <Verdict kind="in">{kinds[one.means ?? ""]}</Verdict>
                  )}
                </td>
                <td className="mono text-[12.5px]">
                  {Object.entries(one.fields)
                    .map(([k, v]) => `${k} ${v}`)
                    .join(", ")}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </fieldset>
  );
}
