import { Field } from "./form";

const pad = (n: number) => String(n).padStart(2, "0");
/** A moment in the form of datetime-local, in the zone of the browser. */
export const localText = (at?: string) => {
  if (!at || at.startsWith("0001")) return "";
  const d = new Date(at);
  return `${d.getFullYear()}-${pad(d.getMonth() + 1)}-${pad(d.getDate())}T${pad(d.getHours())}:${pad(d.getMinutes())}`;
};

/** A moment that may be left open. */
export function MomentField({
  label,
  hint,
  value,
  onChange,
  error,
  field,
}: {
  label: string;
  hint?: string;
  value?: string;
  onChange: (at: string | undefined) => void;
  error?: unknown;
  field: string;
}) {
  return (
    <Field label={label} hint={hint} error={error} name={field}>
      {(p) => (
        <input
          {...p}
          name={field}
          type="datetime-local"
          className="field"
          value={localText(value)}
          onChange={(e) => onChange(e.target.value ? new Date(e.target.value).toISOString() : undefined)}
        />
      )}
    </Field>
  );
}
