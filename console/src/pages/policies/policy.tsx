import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { useDebounced, useObjects } from "../../api/hooks";
import { Button, Failure } from "../../ui/basic";
import { ConditionField, quote } from "../../ui/condition";
import { Field, TextField, Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { NewPass } from "../../ui/missing";
import { MomentField } from "../../ui/moment";
import { FindingLine } from "./analysis";

type Patch = Partial<Policy>;

/** Edits one policy of a lane. */
export type Policy = Schema["ConfigPolicy"];

export function PolicyDialog({
  policy,
  lane,
  at,
  error,
  busy,
  save,
  remove,
  close,
}: {
  policy: Policy;
  lane: Schema["Lane"];
  at: number;
  error: unknown;
  busy: boolean;
  save: (p: Policy) => void;
  remove?: () => void;
  close: () => void;
}) {
  const passes = useObjects("passes");
  const [form, setForm] = useState(policy);
  const [table, setTable] = useState(policy.groups.length > 0);
  const edit = (patch: Patch) => setForm({ ...form, ...patch });
  const options = [
    { value: "", label: "choose a pass" },
    ...(passes.data?.items.map((p) => ({ value: p.name, label: p.vlan ? `${p.name}, VLAN ${p.vlan}` : p.name })) ?? []),
  ];
  const index = at < 0 ? undefined : at;
  const field = (name: string) => `policies[${index ?? "new"}].${name}`;
  const admit = form.outcome === "admit";
  const submit = () =>
    save({
      ...form,
      pass: admit && !table ? form.pass : "",
      groups: admit && table ? form.groups.filter((g) => g.group || g.pass) : [],
    });
  return (
    <Modal wide open onClose={close} title={policy.id ? `Policy ${policy.name}` : "Add policy"}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          submit();
        }}
      >
        <Failure error={error} />
        <div className="mt-2">
          <TextField
            label="Name"
            field={field("name")}
            value={form.name}
            onChange={(name) => edit({ name })}
            error={error}
            autoFocus
          />
          <ConditionField
            label="Applies to people where"
            field={field("when")}
            value={form.when}
            onChange={(when) => edit({ when })}
            error={error}
            aid={
              <GroupHelp
                insert={(g) =>
                  edit({ when: (form.when.trim() ? form.when.trim() + " and " : "") + `group is ${quote(g)}` })
                }
              />
            }
          />
          <Pick
            label="Outcome"
            value={admit ? (table ? "table" : "admit") : "refuse"}
            options={[
              { value: "admit", label: "admit with one pass" },
              { value: "table", label: "admit with a pass by group" },
              { value: "refuse", label: "refuse" },
            ]}
            onChange={(v) => {
              setTable(v === "table");
              edit({
                outcome: v === "refuse" ? "refuse" : "admit",
                groups: v === "table" && form.groups.length === 0 ? [{ group: "", pass: "" }] : form.groups,
              });
            }}
          />
          {admit && !table && (
            <Pick
              label="Pass"
              search="passes"
              field={field("pass")}
              value={form.pass ?? ""}
              onChange={(pass) => edit({ pass })}
              options={options}
              error={error}
            />
          )}
          {admit && table && (
            <Table
              rows={form.groups}
              set={(groups) => edit({ groups })}
              options={options}
              error={error}
              field={field("groups")}
            />
          )}
          {admit && (
            <NewPass
              made={(pass) => {
                if (!table) return edit({ pass });
                const free = form.groups.findIndex((g) => !g.pass);
                edit({ groups: form.groups.map((g, i) => (i === free ? { ...g, pass } : g)) });
              }}
            />
          )}
          {!admit && (
            <TextField
              label="Message to the person"
              field={field("message")}
              hint="Sent as Reply-Message; some devices show it."
              value={form.message ?? ""}
              onChange={(message) => edit({ message })}
              error={error}
            />
          )}
          <Foreseen
            lane={lane}
            policies={(own) =>
              policy.id ? lane.policies.map((p) => (p.id === policy.id ? own : p)) : [...lane.policies, own]
            }
            own={{
              ...form,
              pass: admit && !table ? form.pass : "",
              groups: admit && table ? form.groups.filter((g) => g.group && g.pass) : [],
            }}
          />
          <div className="grid grid-cols-3 gap-3">
            <MomentField
              label="Valid from"
              field={field("from")}
              value={form.from}
              onChange={(from) => edit({ from })}
              error={error}
            />
            <MomentField
              label="Ends"
              field={field("until")}
              value={form.until}
              onChange={(until) => edit({ until })}
              error={error}
            />
            <TextField
              label="Owner"
              field={field("owner")}
              value={form.owner ?? ""}
              onChange={(owner) => edit({ owner })}
              error={error}
            />
          </div>
          <TextField
            label="Note"
            field={field("note")}
            value={form.note ?? ""}
            onChange={(note) => edit({ note })}
            error={error}
          />
          <Tick label="Switched on" checked={form.enabled} onChange={(enabled) => edit({ enabled })} />
        </div>
        <div className="flex gap-2 border-t border-hair pt-3">
          <Button primary type="submit" needs="configure" disabled={busy}>
            Save to the draft
          </Button>
          <Button onClick={close}>Cancel</Button>
          {remove && (
            <Button danger className="ml-auto" onClick={remove}>
              Remove
            </Button>
          )}
        </div>
      </form>
    </Modal>
  );
}

/** What the analysis will say of a policy as it is typed, before it is saved. */
function Foreseen({ lane, policies, own }: { lane: Schema["Lane"]; policies: (own: Policy) => Policy[]; own: Policy }) {
  const typed = useDebounced(own, 400);
  const whole = typed.outcome === "refuse" || !!typed.pass || typed.groups.length > 0;
  const found = useQuery({
    queryKey: ["lane-analysis", lane.id, lane.tag, typed],
    enabled: whole,
    queryFn: () =>
      call<Schema["Analysis"]>("POST", `/lanes/${lane.id}/analysis`, {
        name: lane.name,
        when: lane.when,
        methods: lane.methods,
        realm: lane.realm,
        forward: lane.forward,
        tls: lane.tls,
        rejectDelayMillis: lane.rejectDelayMillis,
        secondFactor: lane.secondFactor,
        factorRestMinutes: lane.factorRestMinutes,
        factor: lane.factor,
        note: lane.note ?? "",
        policies: policies({ ...typed, name: typed.name || "This policy", enabled: true }),
      }),
  });
  const name = typed.name || "This policy";
  const list =
    whole && typed.enabled
      ? (found.data?.items.filter((f) => f.policy === name || f.others?.includes(name)) ?? [])
      : [];
  return list.length > 0 ? (
    <div className="mb-3" aria-live="polite">
      {list.map((f, i) => (
        <FindingLine key={i} finding={f.policy === name ? f : { ...f, message: `policy ${f.policy}: ${f.message}` }} />
      ))}
    </div>
  ) : null;
}

/** Groups of all directories by any part of their name. */
function useGroups(q: string) {
  const directories = useObjects("directories");
  const names = directories.data?.items.map((d) => d.name) ?? [];
  const late = useDebounced(q.trim(), 300);
  return useQuery({
    queryKey: ["groups", names, late],
    queryFn: async () => {
      const lists = await Promise.all(
        names.map((n) =>
          call<Schema["Groups"]>(
            "GET",
            `/directories/${encodeURIComponent(n)}/groups?limit=50&q=${encodeURIComponent(late)}`,
          ).catch(() => ({ items: [], more: false })),
        ),
      );
      return [
        ...new Set(
          lists.flatMap((l) =>
            [...l.items.filter((g) => g.picked), ...l.items.filter((g) => !g.picked)].map((g) => g.picked || g.name),
          ),
        ),
      ];
    },
    enabled: names.length > 0,
    staleTime: 30_000,
    placeholderData: (b) => b,
  });
}

function GroupHelp({ insert }: { insert: (group: string) => void }) {
  const [q, setQ] = useState("");
  const groups = useGroups(q);
  return (
    <div className="mt-1 mb-3">
      <input
        aria-label="Search groups"
        placeholder="Add a group: type part of its name"
        className="field max-w-72 text-[13px]"
        value={q}
        onChange={(e) => setQ(e.target.value)}
        onKeyDown={(e) => e.key === "Enter" && e.preventDefault()}
      />
      {q.trim() && (
        <div className="mt-1 flex flex-wrap gap-1">
          {groups.data?.slice(0, 12).map((g) => (
            <Button
              key={g}
              onClick={() => {
                insert(g);
                setQ("");
              }}
            >
              {g}
            </Button>
          ))}
          {groups.data?.length === 0 && <span className="text-soft">No such group.</span>}
        </div>
      )}
    </div>
  );
}

function Table({
  rows,
  set,
  options,
  error,
  field,
}: {
  rows: Schema["ConfigGroupRow"][];
  set: (rows: Schema["ConfigGroupRow"][]) => void;
  options: { value: string; label: string }[];
  error: unknown;
  field: string;
}) {
  const groups = useGroups("");
  const change = (i: number, patch: Partial<Schema["ConfigGroupRow"]>) =>
    set(rows.map((r, j) => (j === i ? { ...r, ...patch } : r)));
  const swap = (i: number) => set(rows.map((r, j) => (j === i - 1 ? rows[i] : j === i ? rows[i - 1] : r)));
  return (
    <Field
      label="Group table"
      name={field}
      error={error}
      hint="The first row whose group the person is in gives the pass."
    >
      {(p) => (
        <div id={p.id}>
          <datalist id="known-groups">
            {groups.data?.map((g) => (
              <option key={g}>{g}</option>
            ))}
          </datalist>
          {rows.map((r, i) => (
            <div key={i} className="mb-1 flex gap-1">
              <input
                aria-label={`Group ${i + 1}`}
                list="known-groups"
                className="field mono"
                value={r.group}
                onChange={(e) => change(i, { group: e.target.value })}
                placeholder="Group"
              />
              <select
                aria-label={`Pass ${i + 1}`}
                className="field"
                value={r.pass}
                onChange={(e) => change(i, { pass: e.target.value })}
              >
                {options.map((o) => (
                  <option key={o.value} value={o.value}>
                    {o.label}
                  </option>
                ))}
              </select>
              <Button disabled={i === 0} aria-label={`Move row ${i + 1} up`} onClick={() => swap(i)}>
                ↑
              </Button>
              <Button aria-label={`Remove row ${i + 1}`} onClick={() => set(rows.filter((_, j) => j !== i))}>
                ×
              </Button>
            </div>
          ))}
          <Button onClick={() => set([...rows, { group: "", pass: "" }])}>Add row</Button>
        </div>
      )}
    </Field>
  );
}
