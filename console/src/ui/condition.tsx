import { useQuery } from "@tanstack/react-query";
import { useRef, useState, type ReactNode } from "react";
import { call, type Schema } from "../api/client";
import { useDebounced } from "../api/hooks";
import { sentence } from "./basic";
import { Builder } from "./builder";
import { Field } from "./form";
import { type Tree, type FieldInfo, useFields, useCompletions, fieldOf } from "./fields";

/** A condition, written as text or put together in a form, checked while it is edited. */
export function ConditionField({
  label,
  value,
  onChange,
  lane,
  field,
  error,
  aid,
}: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  lane?: boolean;
  field: string;
  error?: unknown;
  /** Shown while it is written as text. */ aid?: ReactNode;
}) {
  const late = useDebounced(value, 200);
  const check = useQuery({
    queryKey: ["condition", late, !!lane],
    queryFn: () => call<Schema["ConditionCheck"]>("POST", "/condition-check", { text: late, lane: !!lane }),
    placeholderData: (b) => b,
    enabled: late.trim() !== "",
  });
  const [form, setForm] = useState<Tree | null>(null);
  const checked = late === value && !check.isPlaceholderData; // what was said of another text is not said of this one
  const bad = !form && late.trim() !== "" && checked && check.data?.error;
  const open = async () => {
    const text = value.trim() || "always";
    const now = await call<Schema["ConditionCheck"]>("POST", "/condition-check", { text, lane: !!lane });
    if (now.tree) setForm(now.tree);
  };
  const tab = "px-2 py-0.5 text-[12px] border-b-2";
  return (
    <Field
      label={label}
      name={field}
      error={bad ? undefined : error}
      hint={form ? undefined : "If left empty, it matches everyone."}
    >
      {(p) => (
        <>
          <div className="mb-1 flex gap-1" role="group" aria-label={`${label}: how to edit`}>
            <button
              type="button"
              aria-pressed={!form}
              className={`${tab} ${form ? "border-transparent text-soft" : "border-brass font-semibold"}`}
              onClick={() => setForm(null)}
            >
              As text
            </button>
            <button
              type="button"
              aria-pressed={!!form}
              disabled={!!bad}
              className={`${tab} ${form ? "border-brass font-semibold" : "border-transparent text-soft"}`}
              onClick={open}
            >
              As a form
            </button>
          </div>
          {form ? (
            <Builder id={p.id} tree={form} lane={!!lane} onText={onChange} />
          ) : (
            <Text {...p} name={field} lane={!!lane} value={value} onChange={onChange} bad={!!bad} />
          )}
          {bad && (
            <div className="text-[12.5px] text-out" role="alert">
              <pre className="mono overflow-x-auto">
                {value + "\n" + " ".repeat(Math.max(0, (bad.column ?? 1) - 1)) + "^"}
              </pre>
              Column {bad.column}: {sentence(bad.message)} {bad.remedy}
            </div>
          )}
          {!form && aid}
          {!form && !bad && check.data?.valid && checked && check.data.canonical !== value.trim() && (
            <div className="hint">
              Kept as <code>{check.data.canonical}</code>
            </div>
          )}
        </>
      )}
    </Field>
  );
}

/** Where the caret stands: at a field, an operator, a value, or after a comparison. */
export function placeOf(
  text: string,
  fields: FieldInfo[],
): { at: "field" | "operator" | "value" | "join"; field: string; begun: string; from: number } {
  const tokens = [...text.matchAll(/"(?:\\.|[^"\\])*"?|[(),]|[^\s(),"]+/g)].map((m) => ({ text: m[0], from: m.index }));
  const last = tokens.at(-1);
  const fresh = !last || /[\s(,]$/.test(text) || ["(", ","].includes(last.text);
  const begun = fresh ? "" : last!.text;
  let at: "field" | "operator" | "value" | "join" = "field";
  let field = "";
  for (const token of fresh ? tokens : tokens.slice(0, -1)) {
    const word = token.text.toLowerCase();
    if (word === "(" || ["and", "or"].includes(word) || (word === "not" && at === "field")) at = "field";
    else if (word === ")" || word === "always") at = "join";
    else if (word === ",") at = "value";
    else if (at === "field") [field, at] = [token.text, "operator"];
    else if (at === "operator")
      at =
        word === "exists"
          ? "join"
          : ["is", "not", "at"].includes(word) || fieldOf(fields, field)
            ? "value"
            : "operator";
    else if (at === "value" && ["not", "in", "least"].includes(word) && token.text === word) at = "value";
    else at = "join";
  }
  return { at, field, begun: begun.replace(/^"|"$/g, ""), from: fresh ? text.length : last!.from };
}

export const quote = (v: string) =>
  /^[\w.:/@-]+$/.test(v) && !/^(and|or|not|always)$/i.test(v)
    ? v
    : `"${v.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`;

function Text({
  value,
  onChange,
  lane,
  bad,
  name,
  ...rest
}: {
  id: string;
  name: string;
  value: string;
  onChange: (v: string) => void;
  lane: boolean;
  bad: boolean;
  "aria-invalid": boolean;
  "aria-describedby"?: string;
}) {
  const area = useRef<HTMLTextAreaElement>(null);
  const [caret, setCaret] = useState(value.length);
  const [focused, setFocused] = useState(false);
  const [put, setPut] = useState(false); // away, by Escape, until something is typed
  const list = useRef<HTMLDivElement>(null);
  const fields = useFields(lane);
  const place = placeOf(value.slice(0, caret), fields);
  const values = useCompletions(place.field, place.begun, focused && place.at === "value");
  const begun = place.begun.toLowerCase();
  const some = (list: string[]) => list.filter((s) => s.toLowerCase().includes(begun) && s.toLowerCase() !== begun);
  const offered = (
    place.at === "value"
      ? some(values.map((v) => v.value))
      : place.at === "operator"
        ? some(fieldOf(fields, place.field)?.operators ?? [])
        : place.at === "join"
          ? some(["and", "or"])
          : some([...fields.map((f) => f.name.replace("*", "")), "not", "always"])
  ).slice(0, place.at === "field" && !begun ? 9 : 12);
  const shown = focused && !put && offered.length > 0;
  // an example of what is configured
  const group = useCompletions("group", "", !lane && value === "")[0];
  const example = lane || !group ? "port.type is Ethernet" : `group is ${quote(group.value)}`;
  const take = (word: string) => {
    const written =
      (place.at === "value" ? quote(word) : word) + (place.at === "field" && word.endsWith(".") ? "" : " ");
    const next = value.slice(0, place.from) + written + value.slice(caret).replace(/^\S*\s?/, "");
    onChange(next);
    const to = place.from + written.length;
    setCaret(to);
    requestAnimationFrame(() => {
      area.current?.focus();
      area.current?.setSelectionRange(to, to);
    });
  };
  return (
    <div
      data-open={shown || undefined}
      onFocus={() => setFocused(true)}
      onBlur={(e) => {
        // Not at once: a dialog that sees something vanish while the focus moves takes the focus back to its start.
        const of = e.currentTarget;
        setTimeout(() => !of.contains(document.activeElement) && setFocused(false));
      }}
    >
      <textarea
        {...rest}
        ref={area}
        name={name}
        rows={2}
        spellCheck={false}
        className="field mono block"
        aria-invalid={rest["aria-invalid"] || bad}
        value={value}
        placeholder={example}
        onChange={(e) => {
          onChange(e.target.value);
          setPut(false);
          setCaret(e.target.selectionStart);
        }}
        onSelect={(e) => setCaret(e.currentTarget.selectionStart)}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown" && e.altKey && offered.length > 0) {
            e.preventDefault();
            setPut(false);
            requestAnimationFrame(() => list.current?.querySelector<HTMLElement>("[data-offer]")?.focus());
          }
          if (e.key === "Escape" && shown) setPut(true);
        }}
      />
      {/* its room is kept: if it came and went, what lies below would move away under the pointer */}
      <div className="mt-1 h-[26px]">
        {shown && (
          <div
            ref={list}
            className="flex h-full items-start gap-1 overflow-hidden p-[2px] whitespace-nowrap"
            role="group"
            aria-label="Suggestions"
            onKeyDown={(e) => {
              const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[e.key];
              if (step && e.target instanceof HTMLElement) {
                e.preventDefault();
                const all = [...e.currentTarget.querySelectorAll<HTMLElement>("[data-offer]")];
                all[(all.indexOf(e.target) + step + all.length) % all.length]?.focus();
              }
              if (e.key === "Escape") {
                area.current?.focus();
                setPut(true);
              }
            }}
          >
            <span className="text-[11.5px] text-soft">Alt ↓</span>
            {offered.map((o) => (
              <button
                key={o}
                type="button"
                data-offer
                tabIndex={-1} // Tab goes on to the next field, arrows go through what is offered
                className="mono rounded-[3px] border border-hair bg-sheet px-1.5 text-[12px] leading-[18px] hover:border-soft"
                onClick={() => take(o)}
              >
                {o}
              </button>
            ))}
          </div>
        )}
      </div>
    </div>
  );
}
