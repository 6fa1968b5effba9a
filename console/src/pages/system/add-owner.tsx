import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { call } from "../../api/client";
import { Button, Failure } from "../../ui/basic";
import { TextField } from "../../ui/form";

/** Adds a second owner, who lets the first one in again. */
export function AddOwner({ done, later }: { done: () => void; later?: () => void }) {
  const [form, setForm] = useState({ name: "", password: "" });
  const add = useMutation({
    mutationFn: () => call("POST", "/operators", { ...form, role: "owner" }),
    onSuccess: done,
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <Failure error={add.error} />
      <TextField
        label="Name"
        field="name"
        value={form.name}
        onChange={(name) => setForm({ ...form, name })}
        autoFocus={!!later}
        required
        autoComplete="off"
      />
      <TextField
        label="Password"
        field="password"
        type="password"
        hint="At least 10 characters. They can change it after signing in."
        value={form.password}
        onChange={(password) => setForm({ ...form, password })}
        required
        autoComplete="new-password"
      />
      <div className="flex gap-2">
        <Button primary={!!later} type="submit" needs={later ? undefined : "own"} disabled={add.isPending}>
          Add them
        </Button>
        {later && <Button onClick={later}>Later</Button>}
      </div>
    </form>
  );
}
