import { useState } from "react";
import type { Schema } from "../api/client";
import { useDebounced, useObjects } from "../api/hooks";
import { Field } from "./form";

/** Chooses a client among however many there are: what is typed is searched by the service. */
export function ClientField({
  label,
  value,
  onChange,
  error,
  speaks = () => true,
}: {
  label: string;
  value: string;
  onChange: (name: string) => void;
  error?: unknown;
  /** Whether a client can be chosen at all. */ speaks?: (c: Schema["Client"]) => boolean;
}) {
  const [typing, setTyping] = useState(false);
  const found = useObjects("clients", useDebounced(typing ? value : ""));
  const names = (found.data?.items ?? []).filter(speaks).map((c) => c.name);
  return (
    <Field
      label={label}
      name="client"
      error={error}
      hint={found.data?.next && "More than are offered: type a part of it."}
    >
      {(p) => (
        <>
          <input
            {...p}
            name="client"
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
