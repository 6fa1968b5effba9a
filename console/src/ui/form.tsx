import { Checkbox } from "radix-ui";
import { useId, type InputHTMLAttributes, type ReactNode } from "react";
import { Refused, type Fault } from "../api/client";
import { sentence } from "./basic";

/** The faults of a field, and of what is inside it. */
export function faultsOf(error: unknown, field: string): Fault[] {
  if (!(error instanceof Refused)) return [];
  return error.faults.filter(
    (f) => f.field === field || f.field.startsWith(field + "[") || f.field.startsWith(field + "."),
  );
}

type FieldProps = {
  label: string;
  hint?: ReactNode;
  error?: unknown;
  name?: string;
  local?: string;
  children: (props: { id: string; "aria-invalid": boolean; "aria-describedby"?: string }) => ReactNode;
};

/** A labelled field with its hint and its faults. local is a fault that was seen while typing. */
export function Field({ label, hint, error, name = "", local, children }: FieldProps) {
  const id = useId();
  const faults = name ? faultsOf(error, name) : [];
  const bad = faults.length > 0 || !!local;
  return (
    <div className="mb-3">
      <label className="label" htmlFor={id}>
        {label}
      </label>
      {children({ id, "aria-invalid": bad, "aria-describedby": bad || hint ? id + "-note" : undefined })}
      <div id={id + "-note"}>
        {bad ? (
          <div className="text-[12.5px] text-out">
            {local && <div>{sentence(local)}</div>}
            {faults.map((f, i) => (
              <div key={i}>
                {sentence(f.message)} {f.remedy}
              </div>
            ))}
          </div>
        ) : (
          hint && <div className="hint">{hint}</div>
        )}
      </div>
    </div>
  );
}

type TextProps = Omit<InputHTMLAttributes<HTMLInputElement>, "onChange" | "value"> & {
  label: string;
  hint?: ReactNode;
  error?: unknown;
  field?: string;
  local?: string;
  value: string;
  onChange: (v: string) => void;
  mono?: boolean;
};

export function TextField({ label, hint, error, field, local, value, onChange, mono, ...rest }: TextProps) {
  return (
    <Field label={label} hint={hint} error={error} name={field} local={local}>
      {(p) => (
        <input
          {...p}
          {...rest}
          name={field}
          value={value}
          onChange={(e) => onChange(e.target.value)}
          className={`field ${mono ? "mono" : ""}`}
          autoComplete={rest.autoComplete ?? "off"}
          spellCheck={false}
        />
      )}
    </Field>
  );
}

/** A list written one entry a line. */
/** A whole number. */
export function NumberField({
  value,
  onChange,
  ...rest
}: Omit<TextProps, "value" | "onChange" | "type"> & { value: number; onChange: (n: number) => void }) {
  return <TextField {...rest} type="number" value={String(value)} onChange={(v) => onChange(Number(v))} />;
}

export function LinesField({
  label,
  hint,
  error,
  field,
  local,
  value,
  onChange,
  rows = 2,
}: {
  label: string;
  hint?: ReactNode;
  error?: unknown;
  field: string;
  local?: string;
  value: string[];
  onChange: (v: string[]) => void;
  rows?: number;
}) {
  return (
    <Field label={label} hint={hint} error={error} name={field} local={local}>
      {(p) => (
        <textarea
          {...p}
          name={field}
          rows={Math.max(rows, value.length)}
          value={value.join("\n")}
          onChange={(e) => onChange(e.target.value.split("\n"))}
          className="field mono block"
          spellCheck={false}
        />
      )}
    </Field>
  );
}

export const lines = (list: string[]) => list.map((l) => l.trim()).filter(Boolean);

export function Tick({
  label,
  checked,
  onChange,
}: {
  label: string;
  checked: boolean;
  onChange: (v: boolean) => void;
}) {
  const id = useId();
  return (
    <div className="mb-3 flex items-center gap-2">
      <Checkbox.Root
        id={id}
        checked={checked}
        onCheckedChange={(v) => onChange(v === true)}
        className="flex h-4 w-4 items-center justify-center rounded-[3px] border border-soft bg-sheet"
      >
        <Checkbox.Indicator>
          <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true">
            <path d="M1.5 5.2 4 7.7 8.6 2.4" stroke="var(--brass)" strokeWidth="2" fill="none" />
          </svg>
        </Checkbox.Indicator>
      </Checkbox.Root>
      <label htmlFor={id} className="text-[13px]">
        {label}
      </label>
    </div>
  );
}
