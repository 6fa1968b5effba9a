import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { ago, Button, Failure, Notice, Verdict } from "../../ui/basic";
import { TextField } from "../../ui/form";

type Directory = Schema["Directory"];

/** Joins the domain, so that MS-CHAP can be checked for its people. */
export function Membership({ directory }: { directory: Directory }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ name: "", password: "", computer: "", ou: "" });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const done = { onSuccess: () => queries.invalidateQueries() };
  const join = useMutation({
    mutationFn: () => call<Schema["Joined"]>("POST", `/directories/${directory.id}/join`, form),
    ...done,
  });
  const leave = useMutation({ mutationFn: () => call("POST", `/directories/${directory.id}/leave`, {}), ...done });
  const rotate = useMutation({ mutationFn: () => call("POST", `/directories/${directory.id}/rotate`), ...done });
  const least = useMutation({
    mutationFn: () =>
      call<Schema["ResultsDelegation"]>(
        "GET",
        `/directories/${directory.id}/delegation?name=${encodeURIComponent(form.name)}&ou=${encodeURIComponent(form.ou)}`,
      ),
  });
  return (
    <section aria-label="Membership">
      <h2 className="mb-1">Membership of the domain</h2>
      <Failure error={join.error ?? leave.error ?? rotate.error ?? least.error} />
      {directory.computer ? (
        <>
          <p className="mb-3">
            <Verdict kind="in">Member of {directory.domain}</Verdict> as <code>{directory.computer}$</code>. MS-CHAPv2
            is checked by its domain controllers.
          </p>
          {directory.machinePasswordSet && (
            <p className="mb-3 text-soft">
              Its password was set {ago(directory.machinePasswordSet)}, and is replaced every 30 days.{" "}
              <Button disabled={rotate.isPending} onClick={() => rotate.mutate()}>
                Replace it now
              </Button>
            </p>
          )}
          <Button danger disabled={leave.isPending} onClick={() => leave.mutate()}>
            Leave the domain
          </Button>
          <p className="hint mt-2">
            Leaving is part of the draft; the machine account stays in the domain until somebody removes it. The command
            line can remove it too: <code>tollgate directory leave -as</code>.
          </p>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            join.mutate();
          }}
        >
          <p className="mb-3 text-soft">
            A directory does not hand out password hashes. As a member of the domain, this server asks its controllers,
            so people can use PEAP with MS-CHAPv2, which most devices choose by default.
          </p>
          <div className="grid max-w-[560px] grid-cols-2 gap-x-4">
            <TextField
              label="Who may create computers"
              field="name"
              mono
              hint="Used once and not kept. It only needs the right to create computer objects in the container."
              value={form.name}
              onChange={(name) => set({ name })}
              error={join.error}
            />
            <TextField
              label="Its password"
              field="password"
              type="password"
              value={form.password}
              onChange={(password) => set({ password })}
              error={join.error}
              autoComplete="new-password"
            />
            <TextField
              label="Machine account"
              field="computer"
              mono
              hint="A name for this server, at most 15 characters. Each server needs its own."
              value={form.computer}
              onChange={(computer) => set({ computer })}
              error={join.error}
            />
            <TextField
              label="Container"
              field="ou"
              mono
              hint="A DN; if left empty, the default container for computers is used."
              value={form.ou}
              onChange={(ou) => set({ ou })}
              error={join.error}
            />
          </div>
          {least.data && (
            <Notice tone="wait">
              To create the account, <code>{least.data.account}</code> needs this one entry in the access list of{" "}
              <code>{least.data.container}</code>:<div className="mono my-1 break-all">{least.data.ace}</div>It allows
              creating computer objects there and nothing else.
            </Notice>
          )}
          <div className="mt-2 flex gap-2">
            <Button primary type="submit" disabled={!form.name || !form.password || !form.computer || join.isPending}>
              {join.isPending ? "Joining …" : "Join the domain"}
            </Button>
            <Button disabled={!form.name || least.isPending} onClick={() => least.mutate()}>
              Which right is needed?
            </Button>
          </div>
        </form>
      )}
    </section>
  );
}
