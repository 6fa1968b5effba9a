import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call } from "../api/client";
import type { Kind } from "../api/hooks";
import { Button, Failure } from "./basic";
import { TextField } from "./form";

type Asked = { key: string; label: string; start?: string };

/** Makes an object where it is missed, without leaving the form. The rest of it can be set on its own page later. */
export function Missing({
  noun,
  kind,
  path = `/${kind}`,
  fields,
  body,
  made,
}: {
  noun: string;
  kind: Kind;
  /** The call that makes it, unless it is that of its list. */ path?: string;
  /** What is asked for; the first is its name. */ fields: Asked[];
  body?: (values: Record<string, string>) => object;
  made: (name: string) => void;
}) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [values, setValues] = useState<Record<string, string>>({});
  const full = () => Object.fromEntries(fields.map((f) => [f.key, (values[f.key] ?? f.start ?? "").trim()]));
  const save = useMutation({
    mutationFn: () => call("POST", path, body ? body(full()) : full()),
    onSuccess: async () => {
      const name = full()[fields[0].key];
      await queries.invalidateQueries({ queryKey: [kind] }); // the list has it before it is chosen
      made(name);
      queries.invalidateQueries();
      setOpen(false);
      setValues({});
    },
  });
  if (!open) {
    return (
      <div className="-mt-1 mb-3">
        <button type="button" className="text-[13px] text-brass-ink hover:underline" onClick={() => setOpen(true)}>
          New {noun} ...
        </button>
      </div>
    );
  }
  return (
    <div
      role="group"
      aria-label={`New ${noun}`}
      className="mb-3 border-l-[3px] border-brass bg-sheet px-3 py-2"
      onKeyDown={(e) => {
        if (e.key === "Enter" && e.target instanceof HTMLInputElement) save.mutate();
      }}
    >
      <Failure error={save.error} />
      <div className={`grid gap-x-3 ${fields.length > 1 ? "sm:grid-cols-2" : ""}`}>
        {fields.map((f, i) => (
          <TextField
            key={f.key}
            label={f.label}
            field={f.key}
            mono={i > 0}
            value={values[f.key] ?? f.start ?? ""}
            onChange={(v) => setValues({ ...values, [f.key]: v })}
            error={save.error}
            autoFocus={i === 0}
            form="none" // Enter does not save the form around it
          />
        ))}
      </div>
      <div className="flex gap-2">
        <Button needs="configure" disabled={save.isPending} onClick={() => save.mutate()}>
          Make the {noun}
        </Button>
        <Button onClick={() => setOpen(false)}>Not now</Button>
      </div>
    </div>
  );
}

/** A pass with a VLAN. */
export function NewPass({ made }: { made: (name: string) => void }) {
  return (
    <Missing
      noun="pass"
      kind="passes"
      fields={[
        { key: "name", label: "Name of the pass" },
        { key: "vlan", label: "Its VLAN" },
      ]}
      made={made}
    />
  );
}
