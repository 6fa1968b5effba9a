import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { api, Refused } from "../../api/client";
import { Key } from "../../shell";
import { AddOwner } from "./add-owner";
import { Button, Failure } from "../../ui/basic";
import { TextField } from "../../ui/form";
import { EnrolOwn } from "./second-factor";

/** The frame of everything that comes before the console. */
function Gate({ title, children, wide }: { title: string; children: ReactNode; wide?: boolean }) {
  return (
    <main className="flex min-h-full items-start justify-center pt-[16vh]">
      <div className={wide ? "w-[640px]" : "w-[380px]"}>
        <div className="mb-5 flex items-center gap-2 text-[17px] font-bold">
          <Key />
          Tollgate Key
        </div>
        <h1 className="mb-1">{title}</h1>
        {children}
      </div>
    </main>
  );
}

/** Sign-in, or at the first visit the creation of the first operator, and of a second one. */
export function SignIn({
  first,
  provider,
  hold,
}: {
  first: boolean;
  provider?: string;
  /** Keeps this page until a second owner was offered, although somebody is signed in. */ hold: (on: boolean) => void;
}) {
  const queries = useQueryClient();
  const [second, setSecond] = useState(false);
  const [form, setForm] = useState({ code: "", name: "", password: "" });
  const [asked, setAsked] = useState(false); // for the code of the second factor
  const enter = useMutation({
    mutationFn: async (byKey?: boolean) => {
      const { name, password, code } = form;
      if (first) await api.POST("/setup", { body: form });
      else {
        const key = byKey ? await (await import("../../ui/security-key")).showKey(name, password, code) : undefined;
        await api.POST("/sign-in", { body: { name, password, code: asked && !key ? code : undefined, key } });
      }
    },
    onSuccess: () => {
      if (!first) return queries.invalidateQueries();
      hold(true);
      setSecond(true);
    },
    onError: (e) => e instanceof Refused && ["factor.missing", "name.guessed"].includes(e.code) && setAsked(true),
  });
  if (second) {
    const done = () => {
      hold(false);
      queries.invalidateQueries();
    };
    return <SecondOwner done={done} />;
  }
  const set = (key: keyof typeof form) => (v: string) => setForm({ ...form, [key]: v });
  const missing = enter.error instanceof Refused && enter.error.code === "factor.missing";
  return (
    <Gate title={first ? "Create the first operator" : "Sign in"}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate(false);
        }}
      >
        {first && (
          <p className="mb-4 text-soft">
            The service printed a setup code when it started. It is also in the file setup-code of its data directory.
          </p>
        )}
        <div className="my-3">{!missing && <Failure error={enter.error} />}</div>
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
          onChange={(v) => {
            setAsked(false);
            set("name")(v);
          }}
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
        {asked && (
          <TextField
            key="code"
            label="Code of your second factor"
            field="code"
            mono
            autoFocus
            hint="What your authenticator shows now, or a recovery code."
            value={form.code}
            onChange={set("code")}
            required
            autoComplete="one-time-code"
          />
        )}
        <div className="flex gap-2">
          <Button primary type="submit" disabled={enter.isPending}>
            {first ? "Create and sign in" : "Sign in"}
          </Button>
          {asked && <Button onClick={() => enter.mutate(true)}>Use a security key</Button>}
        </div>
      </form>
      {!first && provider && (
        <p className="mt-5 border-t border-hair pt-4">
          <a
            className="inline-block rounded border border-hair bg-sheet px-[11px] py-[3px] text-[13px] font-semibold hover:border-soft"
            href="/api/v1/sign-in/provider"
          >
            {provider}
          </a>
        </p>
      )}
    </Gate>
  );
}

/** Offers a second owner, so that nobody is locked out with one who is away. */
function SecondOwner({ done }: { done: () => void }) {
  return (
    <Gate title="Add a second owner">
      <p className="mb-4 text-soft">
        If you lose your password, another owner lets you in again. Without one, somebody has to go to the machine.
      </p>
      <AddOwner done={done} later={done} />
    </Gate>
  );
}

/** What somebody sees whose role needs a second factor, until it was shown. */
export function Enrolling({
  role,
  enrolled,
  hold,
  done,
}: {
  role: string;
  enrolled: boolean;
  hold: () => void;
  done: () => void;
}) {
  const queries = useQueryClient();
  const [before] = useState(enrolled); // while one is enrolled here, this stays as it began
  useEffect(hold, []);
  const leave = async () => {
    await api.POST("/sign-out");
    queries.clear();
    location.assign("/");
  };
  return (
    <Gate title={before ? "Sign in again" : "Your role needs a second factor"} wide>
      {before ? (
        <p className="my-3">
          The role {role} needs a second factor now, and this session began without. Sign in again with its code.
        </p>
      ) : (
        <>
          <p className="my-3 text-soft">
            The role {role} signs in with a password and a code. Enrol an authenticator, such as one on a phone; nothing
            else is open before.
          </p>
          <EnrolOwn
            done={() => {
              queries.invalidateQueries();
              done();
            }}
          />
        </>
      )}
      <button type="button" className="mt-4 text-[13px] text-soft underline" onClick={leave}>
        Sign out
      </button>
    </Gate>
  );
}
