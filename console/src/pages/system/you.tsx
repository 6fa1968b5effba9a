import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type Schema } from "../../api/client";
import { useAbout } from "../../api/hooks";
import { Button, Failure, PageHead, When } from "../../ui/basic";
import { TextField } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { OperatorSessions } from "./operator-sessions";
import { roles, type Role } from "./roles";
import { EnrolOwn, RecoveryCodes } from "./second-factor";
import { Tokens } from "./tokens";

/** One's own role, password, second factor, sessions and tokens. */
export function YouPage() {
  const about = useAbout().data;
  if (!about) return null;
  return (
    <div className="max-w-[980px]">
      <PageHead title="You" lead={about.operator} />
      <p className="mb-4 text-[13px]">
        You are <b>{about.operator}</b>, with the role <b>{about.role}</b>: {roles[about.role as Role]}.
        {about.limits && about.limits.length > 0 && (
          <>
            {" "}
            It is limited to clients with <code>{about.limits.join(" ")}</code>.
          </>
        )}
      </p>
      <div className="grid grid-cols-2 gap-x-10">
        <Password elsewhere={!!about.elsewhere} />
        <SecondFactor enrolled={!!about.secondFactor} />
      </div>
      <OperatorSessions title="Your browser sessions" of={about.operator} />
      <Tokens />
    </div>
  );
}

function Password({ elsewhere }: { elsewhere: boolean }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({ present: "", next: "" });
  const change = useMutation({
    mutationFn: () => api.PUT("/me/password", { body: form }),
    onSuccess: () => {
      setForm({ present: "", next: "" });
      queries.invalidateQueries();
    },
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate();
      }}
    >
      <h2 className="mb-1.5">Password</h2>
      {elsewhere ? (
        <p className="text-soft">It is not kept here. Change it where you are kept.</p>
      ) : (
        <>
          <Failure error={change.error} />
          <TextField
            label="Present password"
            field="present"
            type="password"
            autoComplete="current-password"
            value={form.present}
            onChange={(present) => setForm({ ...form, present })}
            error={change.error}
          />
          <TextField
            label="New password"
            field="password"
            type="password"
            autoComplete="new-password"
            hint="At least 10 characters. Your other sessions end."
            value={form.next}
            onChange={(next) => setForm({ ...form, next })}
            error={change.error}
          />
          <Button type="submit" disabled={!form.present || !form.next || change.isPending}>
            Change it
          </Button>
          {change.isSuccess && <span className="ml-3 text-[13px] text-in">Changed.</span>}
        </>
      )}
    </form>
  );
}

function SecondFactor({ enrolled }: { enrolled: boolean }) {
  const queries = useQueryClient();
  const [enrolling, setEnrolling] = useState(false);
  const own = useQuery({
    queryKey: ["own-factors", enrolled, enrolling],
    queryFn: () => call<Schema["PageFactor"]>("GET", "/me/factors"),
  });
  const [code, setCode] = useState("");
  const done = { onSuccess: () => setCode(""), onSettled: () => queries.invalidateQueries() };
  const remove = useMutation({ mutationFn: () => api.POST("/me/factor-removal", { body: { code } }), ...done });
  const renew = useMutation({
    mutationFn: async () => (await api.POST("/me/factor-recovery", { body: { code } })).data!,
    onSuccess: () => setCode(""),
  });
  return (
    <div>
      <h2 className="mb-1.5">Second factor</h2>
      <Failure error={remove.error ?? renew.error} />
      {enrolled ? (
        <>
          <p className="mb-2">It is asked for at each sign-in.</p>
          <ul className="mb-2 text-[13px]">
            {own.data?.items.map((f) => (
              <li key={f.id}>
                {f.kind === "key" ? "security key" : "authenticator"}
                <span className="text-soft">
                  , since <When at={f.madeAt} long />
                </span>
              </li>
            ))}
          </ul>
          <TextField
            label="A code, to change something"
            mono
            autoComplete="one-time-code"
            inputMode="numeric"
            value={code}
            onChange={setCode}
          />
          <div className="flex gap-2">
            <Button onClick={() => setEnrolling(true)}>Another device ...</Button>
            <Button disabled={!code} onClick={() => renew.mutate()}>
              New recovery codes
            </Button>
            <Button danger disabled={!code} onClick={() => remove.mutate()}>
              Remove
            </Button>
          </div>
        </>
      ) : (
        <>
          <p className="mb-2 text-soft">
            A security key, or a code of an authenticator, beside the password keeps out whoever has the password alone.
          </p>
          <Button onClick={() => setEnrolling(true)}>Enrol ...</Button>
        </>
      )}
      {(enrolling || renew.data) && (
        <Modal
          open
          wide
          title={renew.data ? "New recovery codes" : "Your second factor"}
          onClose={() => {
            setEnrolling(false);
            renew.reset();
            queries.invalidateQueries();
          }}
        >
          {renew.data ? (
            <RecoveryCodes codes={renew.data} done={() => renew.reset()} />
          ) : (
            <EnrolOwn done={() => setEnrolling(false)} />
          )}
        </Modal>
      )}
    </div>
  );
}
