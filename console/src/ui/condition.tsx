import { useQuery } from "@tanstack/react-query";
import { call, type Schema } from "../api/client";
import { useDebounced } from "../api/hooks";
import { sentence } from "./basic";
import { Field } from "./form";

/** A condition, checked while it is typed, with the error pointing at its column. */
export function ConditionField({ label, value, onChange, lane, field, error }: { label: string; value: string; onChange: (v: string) => void; lane?: boolean; field: string; error?: unknown }) {
  const late = useDebounced(value, 200);
  const check = useQuery({ queryKey: ["condition", late, !!lane], queryFn: () => call<Schema["ConditionCheck"]>("POST", "/condition-check", { text: late, lane: !!lane }), placeholderData: (b) => b, enabled: late.trim() !== "" });
  const fields = useQuery({ queryKey: ["fields", !!lane], queryFn: () => call<Schema["PageField"]>("GET", `/fields?lane=${!!lane}`), staleTime: Infinity });
  const bad = late.trim() !== "" && late === value && check.data?.error;
  return (
    <Field label={label} name={field} error={bad ? undefined : error} hint={<>Empty is always. Fields: <span className="mono">{fields.data?.items.map((f) => f.name.replace("*", "…")).join(" ")}</span></>}>
      {(p) => (
        <>
          <textarea {...p} name={field} rows={2} spellCheck={false} className="field mono block" aria-invalid={p["aria-invalid"] || !!bad} value={value} onChange={(e) => onChange(e.target.value)} placeholder='group is "Deck Officers" and client.site is north-pier' />
          {bad && (
            <div className="text-[12.5px] text-out" role="alert">
              <pre className="mono overflow-x-auto">{value + "\n" + " ".repeat(Math.max(0, (bad.column ?? 1) - 1)) + "^"}</pre>
              Column {bad.column}: {sentence(bad.message)} {bad.remedy}
            </div>
          )}
          {!bad && check.data?.valid && late === value && check.data.canonical !== value.trim() && <div className="hint">Kept as <code>{check.data.canonical}</code></div>}
        </>
      )}
    </Field>
  );
}
