import { Select } from "radix-ui";
import { getNonce } from "get-nonce";
import type { ReactNode } from "react";
import type { Kind } from "../api/hooks";
import { Field } from "./form";
import { NameField } from "./name-field";

/** More options than this nobody looks through: they are searched. */
const few = 100;

/** Chooses one of a few; of many objects of a kind, one is typed and searched by the service. */
export function Pick({
  label,
  hint,
  value,
  options,
  onChange,
  error,
  field,
  search,
}: {
  label: string;
  hint?: ReactNode;
  value: string;
  options: { value: string; label: string }[];
  onChange: (v: string) => void;
  error?: unknown;
  field?: string;
  /** The kind of object that the options are, which are chosen by name. */ search?: Kind;
}) {
  if (search && options.length > few)
    return (
      <NameField kind={search} name={field} label={label} hint={hint} value={value} onChange={onChange} error={error} />
    );
  return (
    <Field label={label} hint={hint} error={error} name={field}>
      {(p) => (
        // an empty value is no choice of anybody: the list says so while an option that was just made is not in it yet
        <Select.Root value={value || "-"} onValueChange={(v) => v && onChange(v === "-" ? "" : v)}>
          <Select.Trigger {...p} aria-label={label} className="field flex items-center justify-between text-left">
            <Select.Value />
            <Select.Icon className="text-soft">▾</Select.Icon>
          </Select.Trigger>
          <Select.Portal>
            <Select.Content
              position="popper"
              className="z-50 max-h-80 overflow-hidden rounded border border-hair bg-sheet shadow-lg"
            >
              <Select.Viewport className="p-1" nonce={getNonce()}>
                {options.map((o) => (
                  <Select.Item
                    key={o.value}
                    value={o.value || "-"}
                    className="cursor-pointer rounded px-3 py-1 text-[13px] outline-none data-[highlighted]:bg-nav"
                  >
                    <Select.ItemText>{o.label}</Select.ItemText>
                  </Select.Item>
                ))}
              </Select.Viewport>
            </Select.Content>
          </Select.Portal>
        </Select.Root>
      )}
    </Field>
  );
}
