import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { Button, Failure, Notice } from "../../ui/basic";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";

type Action = Schema["SessionAsk"]["action"];
const actions: { value: Action; label: string }[] = [
  { value: "reauthenticate", label: "Authenticate again: the policies decide anew" },
  { value: "disconnect", label: "Disconnect: the session ends" },
  { value: "change", label: "Change the pass until the next sign-in" },
];

function Choice({
  action,
  pass,
  set,
}: {
  action: Action;
  pass: string;
  set: (a: { action?: Action; pass?: string }) => void;
}) {
  const passes = useObjects("passes").data?.items ?? [];
  return (
    <>
      <Pick label="Ask to" value={action} onChange={(v) => set({ action: v as Action })} options={actions} />
      {action === "change" && (
        <Pick
          label="New pass"
          search="passes"
          value={pass}
          onChange={(v) => set({ pass: v })}
          options={[{ value: "", label: "Choose one" }, ...passes.map((p) => ({ value: p.name, label: p.name }))]}
        />
      )}
    </>
  );
}

/** Asks the client of one session. */
export function AskOne({ id, action, onClose }: { id: string; action: Action; onClose: () => void }) {
  const queries = useQueryClient();
  const [pass, setPass] = useState("");
  const [chosen, setChosen] = useState(action);
  const ask = useMutation({
    mutationFn: () =>
      call<Schema["SessionAnswer"]>("POST", `/sessions/${id}/ask`, { action: chosen, ...(pass ? { pass } : {}) }),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Modal open onClose={onClose} title="Ask the client">
      <Choice
        action={chosen}
        pass={pass}
        set={(a) => {
          if (a.action) setChosen(a.action);
          if (a.pass !== undefined) setPass(a.pass);
        }}
      />
      <Failure error={ask.error} />
      {ask.data && (
        <Notice tone={ask.data.done ? "in" : "out"}>
          <b>{ask.data.done ? "Done" : "Not done"}</b>: {ask.data.answer}
          {ask.data.done && `, after ${(ask.data.micros / 1000).toFixed(0)} ms`}
        </Notice>
      )}
      <div className="mt-3 flex gap-2">
        <Button
          primary
          disabled={ask.isPending || (chosen === "change" && !pass)}
          danger={chosen === "disconnect"}
          onClick={() => ask.mutate()}
        >
          {ask.isPending ? "Asking…" : "Ask"}
        </Button>
        <Button onClick={onClose}>Close</Button>
      </div>
    </Modal>
  );
}

/** Asks the clients of all sessions that a filter selects, after saying how many they are. */
export function AskMany({ query, onClose }: { query: URLSearchParams; onClose: () => void }) {
  const queries = useQueryClient();
  const [action, setAction] = useState<Action>("reauthenticate");
  const [pass, setPass] = useState("");
  const filter = {
    user: query.get("user") ?? undefined,
    mac: query.get("mac") ?? undefined,
    client: query.get("client") ?? undefined,
    ofPass: query.get("pass") ?? undefined,
    text: query.get("q") ?? undefined,
    address: query.get("address") ?? undefined,
  };
  const preview = useQuery({
    queryKey: ["sessions-preview", query.toString()],
    queryFn: () =>
      call<Schema["SessionsAnswer"]>("POST", "/sessions-ask", { ...filter, action: "reauthenticate", preview: true }),
  });
  const ask = useMutation({
    mutationFn: () =>
      call<Schema["SessionsAnswer"]>("POST", "/sessions-ask", { ...filter, action, ...(pass ? { pass } : {}) }),
    onSettled: () => queries.invalidateQueries(),
  });
  const count = preview.data?.count ?? 0;
  return (
    <Modal open onClose={onClose} title={`${count.toLocaleString()} ${count === 1 ? "session" : "sessions"}`}>
      <Choice
        action={action}
        pass={pass}
        set={(a) => {
          if (a.action) setAction(a.action);
          if (a.pass !== undefined) setPass(a.pass);
        }}
      />
      <Failure error={ask.error ?? preview.error} />
      {(ask.data ?? preview.data)?.missing && (
        <Notice tone="warn">
          Sessions that were reported to {(ask.data ?? preview.data)?.missing?.join(" and ")} are left out: no answer.
        </Notice>
      )}
      {ask.data && (
        <>
          <Notice tone={ask.data.done === ask.data.count ? "in" : "warn"}>
            <b>
              {ask.data.done} of {ask.data.count} done.
            </b>
          </Notice>
          <table className="grid-table mt-2">
            <tbody>
              {ask.data.answers
                .filter((a) => !a.done)
                .slice(0, 50)
                .map((a) => (
                  <tr key={a.id}>
                    <td className="mono">{a.user}</td>
                    <td className="mono">{a.client}</td>
                    <td className="text-out">{a.answer}</td>
                  </tr>
                ))}
            </tbody>
          </table>
        </>
      )}
      <div className="mt-3 flex gap-2">
        <Button
          primary
          danger={action === "disconnect"}
          disabled={ask.isPending || count === 0 || (action === "change" && !pass)}
          onClick={() => ask.mutate()}
        >
          {ask.isPending ? "Asking…" : `Ask for ${count} ${count === 1 ? "session" : "sessions"}`}
        </Button>
        <Button onClick={onClose}>Close</Button>
      </div>
    </Modal>
  );
}
