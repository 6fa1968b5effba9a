import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useDebounced, useObject, useObjects } from "../../api/hooks";
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
} from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { faultsOf, lines, TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { Sortable, useMovable } from "../../ui/sortable";

type List = Schema["CommandList"];
type Trials = Schema["CommandTrials"];

const verb = { permit: "permit", refuse: "refuse" } as const;
export const kindOf = (verdict: string) => (verdict === "permit" ? "in" : "out") as "in" | "out";

export function CommandListsPage() {
  const list = useObjects("command-lists");
  const go = useNavigate();
  return (
    <>
      <PageHead title="Command lists" lead="what may be typed on network gear">
        <ButtonLink primary to="/command-lists/new">
          Add command list
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No command list yet">
          A pass names a command list. Each command typed on a device is checked here, and the first matching line
          decides.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Lines</th>
              <th>Extends</th>
              <th>Otherwise</th>
              <th>Used by</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((l) => (
              <tr key={l.id} {...rowKeys(() => go(`/command-lists/${l.id}`))}>
                <td className="font-semibold">{l.name}</td>
                <td>
                  {l.lines.length}
                  {l.whole > l.lines.length && <span className="text-soft"> of {l.whole}</span>}
                </td>
                <td>{l.extends.join(", ")}</td>
                <td>
                  {l.otherwise || <span className="text-soft">{l.extends.length ? "as extended" : "refuse"}</span>}
                </td>
                <td className="text-soft">{l.usedBy.join(", ") || "nothing"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function CommandListPage() {
  const { id = "" } = useParams();
  const one = useObject("command-lists", id);
  if (id === "new") return <CommandListForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Command list" />
        <Failure error={one.error} />
      </>
    );
  return <CommandListForm key={one.data.id} list={one.data} />;
}

type Line = Schema["ConfigCommandLine"] & { id: string };
let made = 0;
const identified = (l: Schema["ConfigCommandLine"]): Line => ({ ...l, id: `line-${made++}` });

function CommandListForm({ list }: { list?: List }) {
  const [form, setForm] = useState({
    name: list?.name ?? "",
    extends: list?.extends ?? [],
    otherwise: list?.otherwise ?? "",
    note: list?.note ?? "",
  });
  const [rows, setRows] = useState<Line[]>(
    (list?.lines ?? [{ verdict: "permit" as const, pattern: "" }]).map(identified),
  );
  const [typed, setTyped] = useState<string[]>(["show version"]);
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const others = useObjects("command-lists").data?.items.filter((l) => l.id !== list?.id) ?? [];
  const body = {
    ...form,
    lines: rows
      .filter((r) => r.pattern.trim())
      .map(({ verdict, pattern, note }) => ({ verdict, pattern, ...(note ? { note } : {}) })),
  };
  const asked = useDebounced(JSON.stringify({ ...body, name: form.name || "new", commands: lines(typed) }), 200);
  const trial = useQuery({
    queryKey: ["command-list-trial", asked],
    queryFn: () => call<Trials>("POST", "/command-list-trial", JSON.parse(asked)),
    placeholderData: (b) => b,
  });
  const t = trial.data;
  const row = (id: string, patch: Partial<Line>) => setRows(rows.map((r) => (r.id === id ? { ...r, ...patch } : r)));
  const whole = t?.lines.filter((l) => l.list !== (form.name || "new")) ?? [];
  const filled = rows.filter((r) => r.pattern.trim());
  return (
    <>
      <Trail to="/command-lists" of="Command lists">
        {list?.name ?? "new"}
      </Trail>
      <PageHead
        title={list?.name ?? "Add command list"}
        lead={list && (list.usedBy.length ? `used by ${list.usedBy.join(", ")}` : "used by nothing yet")}
      />
      <div className="grid gap-8 *:min-w-0 lg:grid-cols-[minmax(0,1fr)_minmax(300px,380px)]">
        <div>
          {list && <Problems list={list.problems.filter((p) => !p.field.startsWith("lines["))} />}
          <Editor kind="command-lists" noun="command list" object={list} body={() => body}>
            {(error) => (
              <>
                <TextField
                  label="Name"
                  field="name"
                  value={form.name}
                  onChange={(name) => set({ name })}
                  error={error}
                />
                <div className="label">Lines (first match decides)</div>
                <Sortable items={rows} onMove={setRows}>
                  <table className="grid-table mb-1" aria-label="Lines">
                    <thead>
                      <tr>
                        <th className="w-6" />
                        <th className="w-8">#</th>
                        <th className="w-28">Verdict</th>
                        <th>Command</th>
                        <th className="w-10" />
                      </tr>
                    </thead>
                    <tbody>
                      {rows.map((r, i) => (
                        <LineRow
                          key={r.id}
                          r={r}
                          n={i + 1}
                          t={t}
                          at={filled.indexOf(r)}
                          error={error}
                          change={(patch) => row(r.id, patch)}
                          remove={() => setRows(rows.filter((o) => o.id !== r.id))}
                        />
                      ))}
                    </tbody>
                  </table>
                </Sortable>
                <Button onClick={() => setRows([...rows, identified({ verdict: "permit", pattern: "" })])}>
                  Add line
                </Button>
                <p className="hint mt-1 mb-3">
                  Write commands as they are typed. <code>*</code> at the end takes whatever follows, elsewhere any one
                  word; <code>eth*</code> any ending; <code>ping|traceroute</code> either; <code>&lt;cr&gt;</code>{" "}
                  nothing more, as no star does. Case does not count.
                </p>
                <div className="grid grid-cols-2 gap-3">
                  <Pick
                    label="Followed by the lines of"
                    search="command-lists"
                    field="extends"
                    value={form.extends[0] ?? ""}
                    onChange={(v) => set({ extends: v ? [v, ...form.extends.slice(1)] : [] })}
                    error={error}
                    options={[
                      { value: "", label: "no other list" },
                      ...others.map((l) => ({ value: l.name, label: l.name })),
                    ]}
                  />
                  <Pick
                    label="If no line matches"
                    field="otherwise"
                    value={form.otherwise}
                    onChange={(v) => set({ otherwise: v as typeof form.otherwise })}
                    error={error}
                    options={[
                      { value: "", label: form.extends.length ? "as the list that follows says" : "refuse" },
                      { value: "refuse", label: "refuse" },
                      { value: "permit", label: "permit" },
                    ]}
                  />
                </div>
                {whole.length > 0 && (
                  <details className="mb-3">
                    <summary className="cursor-pointer text-[12.5px] font-semibold">
                      {whole.length} lines follow from other lists
                    </summary>
                    <table className="grid-table mt-1">
                      <tbody>
                        {whole.map((l, i) => (
                          <tr key={i}>
                            <td className="w-36 text-soft">
                              {l.list} {l.line}
                            </td>
                            <td className="w-28">
                              <Verdict kind={kindOf(l.verdict)}>{l.verdict}</Verdict>
                            </td>
                            <td className="mono">{l.pattern}</td>
                          </tr>
                        ))}
                      </tbody>
                    </table>
                  </details>
                )}
                <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
              </>
            )}
          </Editor>
        </div>
        <section aria-label="Try commands" className="border-l border-hair pl-6">
          <h2 className="mb-1">Type commands</h2>
          <p className="mb-2 text-soft">One per line. Checked against the list as shown here, saved or not.</p>
          <textarea
            aria-label="Commands"
            rows={Math.max(4, typed.length)}
            className="field mono block"
            value={typed.join("\n")}
            onChange={(e) => setTyped(e.target.value.split("\n"))}
            spellCheck={false}
            placeholder="show version"
          />
          <Failure error={trial.error} />
          <table className="grid-table mt-2" aria-live="polite">
            <tbody>
              {t?.commands.map((c, i) => (
                <tr key={i}>
                  <td className="w-24 align-top">
                    <Verdict kind={kindOf(c.verdict)}>{verb[c.verdict]}</Verdict>
                  </td>
                  <td className="mono">
                    {c.command}
                    <div className="text-[12px] text-soft">
                      {c.line
                        ? `line ${c.line}${c.list !== (form.name || "new") ? ` of ${c.list}` : ""}: ${c.pattern}`
                        : "no line fits"}
                    </div>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      </div>
    </>
  );
}

/** One line, with what is wrong with it: it cannot be read, or can never decide. */
function LineRow({
  r,
  n,
  t,
  at,
  error,
  change,
  remove,
}: {
  r: Line;
  n: number;
  t?: Trials;
  at: number;
  error: unknown;
  change: (patch: Partial<Line>) => void;
  remove: () => void;
}) {
  const m = useMovable(r.id, `line ${n}`);
  const unread = at >= 0 ? t?.problems.find((p) => p.field === `lines[${at}].pattern`) : undefined;
  const finding = at >= 0 ? t?.findings.find((f) => f.field === `lines[${at}]`) : undefined;
  const faults = at >= 0 ? faultsOf(error, `lines[${at}]`) : [];
  const example = at >= 0 ? t?.lines.find((l) => l.line === at + 1)?.example : "";
  return (
    <tr ref={m.ref} style={m.style}>
      <td>{m.handle}</td>
      <td className="text-soft">{n}</td>
      <td>
        <select
          aria-label={`Verdict of line ${n}`}
          className="field text-[13px]"
          value={r.verdict}
          onChange={(e) => change({ verdict: e.target.value as Line["verdict"] })}
        >
          <option value="permit">permit</option>
          <option value="refuse">refuse</option>
        </select>
      </td>
      <td>
        <input
          aria-label={`Command of line ${n}`}
          className="field mono"
          value={r.pattern}
          onChange={(e) => change({ pattern: e.target.value })}
          placeholder="show *"
          spellCheck={false}
          aria-invalid={!!unread || faults.length > 0}
          title={example ? `decides for instance: ${example}` : undefined}
        />
        {unread ? (
          <div className="text-[12.5px] text-out">
            Column {unread.column}: {unread.message}. {unread.remedy}
          </div>
        ) : (
          faults.map((f, i) => (
            <div key={i} className="text-[12.5px] text-out">
              {sentence(f.message)} {f.remedy}
            </div>
          ))
        )}
        {finding && (
          <div className="mt-1">
            <Notice tone="warn">
              <b>{sentence(finding.message)}</b> {finding.remedy}
            </Notice>
          </div>
        )}
      </td>
      <td>
        <Button aria-label={`Remove line ${n}`} onClick={remove}>
          ×
        </Button>
      </td>
    </tr>
  );
}
