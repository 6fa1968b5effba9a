import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call } from "../../api/client";
import { Button, Failure } from "../../ui/basic";
import { TextField } from "../../ui/form";

/** Makes a pass where one is missed, without leaving the form. The rest of it can be set on its own page later. */
export function NewPass({ made }: { made: (name: string) => void }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [form, setForm] = useState({ name: "", vlan: "" });
  const save = useMutation({
    mutationFn: () => call("POST", "/passes", form),
    onSuccess: async () => {
      await queries.invalidateQueries();
      made(form.name.trim());
      setOpen(false);
      setForm({ name: "", vlan: "" });
    },
  });
  if (!open) {
    return (
      <div className="mb-3 -mt-1">
        <button type="button" className="text-[13px] text-brass-ink hover:underline" onClick={() => setOpen(true)}>
          New pass ...
        </button>
      </div>
    );
  }
  return (
    <div
      role="group"
      aria-label="New pass"
      className="mb-3 border-l-[3px] border-brass bg-sheet px-3 py-2"
      onKeyDown={(e) => {
        if (e.key === "Enter" && e.target instanceof HTMLInputElement) {
          e.preventDefault(); // it is not the form around that is saved
          save.mutate();
        }
      }}
    >
      <Failure error={save.error} />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Name of the pass"
          field="name"
          value={form.name}
          onChange={(name) => setForm({ ...form, name })}
          error={save.error}
          autoFocus
        />
        <TextField
          label="Its VLAN"
          field="vlan"
          mono
          value={form.vlan}
          onChange={(vlan) => setForm({ ...form, vlan })}
          error={save.error}
        />
      </div>
      <div className="flex gap-2">
        <Button needs="configure" disabled={save.isPending} onClick={() => save.mutate()}>
          Make the pass
        </Button>
        <Button onClick={() => setOpen(false)}>Not now</Button>
      </div>
    </div>
  );
}
