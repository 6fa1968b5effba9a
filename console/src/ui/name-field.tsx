import { useState, type ReactNode } from "react";
import { useDebounced, useObjects, type Kind, type ObjectOf } from "../api/hooks";
import { Field } from "./form";

/** Chooses an object by its name among however many there are: what is typed is searched by the service. */
export function NameField<K extends Kind>({
  kind,
  label,
  hint,
  name,
  value,
  onChange,
  error,
  fits = () => true,
}: {
  kind: K;
  label: string;
  hint?: ReactNode;
  name?: string;
  value: string;
  onChange: (name: string) => void;
  error?: unknown;
  /** Whether an object can be chosen at all. */ fits?: (o: ObjectOf[K]) => boolean;
}) {
  const [typing, setTyping] = useState(false);
  const found = useObjects(kind, useDebounced(typing ? value : ""));
  const names = (found.data?.items ?? []).filter(fits).map((o) => o.name);
  return (
    <Field
      label={label}
      name={name}
      error={error}
      hint={
        <>
          {hint} {found.data?.next && "More than are offered: type a part of it."}
        </>
      }
    >
      {(p) => (
        <>
          <input
            {...p}
            name={name}
            list={p.id + "-list"}
            className="field mono"
            autoComplete="off"
            spellCheck={false}
            value={value}
            onFocus={(e) => e.target.select()}
            onChange={(e) => {
              setTyping(true);
              onChange(e.target.value);
            }}
          />
          <datalist id={p.id + "-list"}>
            {names.slice(0, 100).map((name) => (
              <option key={name}>{name}</option>
            ))}
          </datalist>
        </>
      )}
    </Field>
  );
}
