import { FactorFields } from "./factor-fields";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { Button, ButtonLink, PageHead } from "../../ui/basic";
import { ConditionField } from "../../ui/condition";
import { Editor } from "../../ui/editor";
import { Field, TextField, Tick } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { MethodsField, freshTLS } from "./methods";
import { type Policy } from "./policy";

export type Lane = Schema["Lane"];

export type LaneValues = {
  name: string;
  when: string;
  methods: string[];
  realm: string;
  forward: string[];
  tls: Schema["ConfigLaneTLS"];
  rejectDelayMillis: number;
  secondFactor: string;
  factorRestMinutes: number;
  factor?: Schema["ConfigLaneFactor"];
  follow: boolean;
  policies: Policy[];
  note?: string;
};

export const laneBody = (l: LaneValues) => ({
  name: l.name,
  when: l.when,
  methods: l.methods,
  realm: l.realm,
  forward: l.forward,
  tls: l.tls,
  rejectDelayMillis: l.rejectDelayMillis,
  secondFactor: l.secondFactor,
  factorRestMinutes: l.factorRestMinutes,
  factor: l.factor,
  follow: l.follow,
  policies: l.policies,
  note: l.note ?? "",
});

/** The remote servers that decide instead of the policies, in the order to ask them. */
export function ForwardField({
  value,
  onChange,
  error,
}: {
  value: string[];
  onChange: (v: string[]) => void;
  error: unknown;
}) {
  const remotes = useObjects("remotes").data?.items ?? [];
  const open = remotes.filter((r) => !value.includes(r.name));
  if (remotes.length === 0 && value.length === 0) return null;
  return (
    <Field
      label="Forwarded to"
      name="forward"
      error={error}
      hint={
        value.length
          ? "The first server that answers decides; methods and policies of this lane are not used."
          : "None: the policies of this lane decide."
      }
    >
      {(p) => (
        <div id={p.id} className="flex flex-wrap gap-1">
          {value.map((name, i) => (
            <Button
              key={name}
              aria-label={`Do not forward to ${name}`}
              onClick={() => onChange(value.filter((v) => v !== name))}
            >
              {i + 1}. {name} ×
            </Button>
          ))}
          {open.map((r) => (
            <Button key={r.id} onClick={() => onChange([...value, r.name])}>
              Forward to {r.name}
            </Button>
          ))}
        </div>
      )}
    </Field>
  );
}

/** fresh are the methods that a new lane begins with: those that everybody can use, the strongest first. */
export function LaneForm({ lane, close, fresh = [] }: { lane?: Lane; close?: () => void; fresh?: string[] }) {
  const realms = useObjects("realms");
  const [form, setForm] = useState(
    laneBody(
      lane ?? {
        name: "",
        when: "",
        methods: fresh,
        realm: "",
        forward: [],
        tls: freshTLS,
        rejectDelayMillis: 1000,
        secondFactor: "",
        factorRestMinutes: 0,
        follow: false,
        policies: [],
        note: "",
      },
    ),
  );
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const proposal = (when: string) =>
    lane ? form.methods : /protocol is tacacs|service (is|in) device/i.test(when) ? ["pap"] : fresh;
  const proposed = proposal(form.when);
  const go = useNavigate();
  return (
    <>
      {!lane && (
        <PageHead title="Add lane">
          <ButtonLink to="/lanes">Cancel</ButtonLink>
        </PageHead>
      )}
      <Editor
        kind="lanes"
        noun="lane"
        object={lane}
        body={() => form}
        onSaved={(s) => (close ? close() : go(`/lanes/${s.id}`))}
      >
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <ConditionField
              label="Matches requests where"
              field="when"
              lane
              value={form.when}
              onChange={(when) =>
                // gear that signs people in speaks no EAP; what was chosen is left as it is
                set({ when, methods: form.methods.join() === proposed.join() ? proposal(when) : form.methods })
              }
              error={error}
            />
            <MethodsField
              methods={form.methods}
              tls={form.tls}
              onChange={(methods, tls) => set({ methods, tls })}
              error={error}
            />
            <Pick
              label="Realm"
              search="realms"
              field="realm"
              value={form.realm}
              onChange={(realm) => set({ realm })}
              error={error}
              options={[
                { value: "", label: "by the form of the name" },
                ...(realms.data?.items.map((r) => ({ value: r.name, label: r.name })) ?? []),
              ]}
            />
            <ForwardField value={form.forward} onChange={(forward) => set({ forward })} error={error} />
            <FactorFields value={form} onChange={set} error={error} />
            <TextField
              label="Delay before a refusal (ms)"
              field="rejectDelayMillis"
              type="number"
              hint="1000 is usual; it slows down guessing."
              value={String(form.rejectDelayMillis)}
              onChange={(v) => set({ rejectDelayMillis: Number(v) })}
              error={error}
            />
            <Tick
              label="Have open sessions authenticated again when their people would now get something else"
              checked={form.follow}
              onChange={(follow) => set({ follow })}
            />
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
    </>
  );
}
