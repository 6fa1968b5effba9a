import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/client";
import { Key } from "../../shell";
import { Button, Failure } from "../../ui/basic";
import { TextField } from "../../ui/form";

/** Sign-in, or at the first visit the creation of the first operator. */
export function SignIn({ first }: { first: boolean }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ code: "", name: "", password: "" });
  const enter = useMutation({
    mutationFn: async () => {
      if (first) await api.POST("/setup", { body: form });
      else await api.POST("/sign-in", { body: { name: form.name, password: form.password } });
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  const set = (key: keyof typeof form) => (v: string) => setForm({ ...form, [key]: v });
  return (
    <main className="flex min-h-full items-start justify-center pt-[16vh]">
      <form
        className="w-[380px]"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <div className="mb-5 flex items-center gap-2 text-[17px] font-bold">
          <Key />
          Tollgate Key
        </div>
        <h1 className="mb-1">{first ? "Create the first operator" : "Sign in"}</h1>
        {first && (
          <p className="mb-4 text-soft">
            The service printed a setup code when it started. It is also in the file setup-code of its data directory.
          </p>
        )}
        <div className="my-3">
          <Failure error={enter.error} />
        </div>
        {first && (
          <TextField
            label="Setup code"
            field="code"
            mono
            value={form.code}
            onChange={set("code")}
            autoFocus
            required
            placeholder="XXXX-XXXX-XXXX"
          />
        )}
        <TextField
          label="Name"
          field="name"
          value={form.name}
          onChange={set("name")}
          autoFocus={!first}
          required
          autoComplete="username"
        />
        <TextField
          label="Password"
          field="password"
          type="password"
          hint={first ? "At least 10 characters." : undefined}
          value={form.password}
          onChange={set("password")}
          required
          autoComplete={first ? "new-password" : "current-password"}
        />
        <Button primary type="submit" disabled={enter.isPending}>
          {first ? "Create and sign in" : "Sign in"}
        </Button>
      </form>
    </main>
  );
}
