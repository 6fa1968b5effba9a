import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { Button, Failure, Notice } from "../../ui/basic";
import { lines, LinesField, Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { Secrets } from "../../ui/secrets";

/** Which clients a change is about. */
export type Chosen = { clients: string[] } | { matching: string } | { all: true };

/** Changes many clients at once. */
export function Bulk({ chosen, count, close }: { chosen: Chosen; count?: number; close: () => void }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({
    tags: [] as string[],
    untag: [] as string[],
    enabled: "",
    mode: "",
    rotate: false,
    keep: "24",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const run = useMutation({
    mutationFn: () =>
      call<Schema["ClientsChanged"]>("POST", "/client-changes", {
        ...chosen,
        tags: Object.fromEntries(lines(form.tags).map((t) => [t.split("=")[0], t.split("=").slice(1).join("=")])),
        untag: lines(form.untag),
        ...(form.enabled ? { enabled: form.enabled === "on" } : {}),
        ...(form.mode ? { messageAuthenticator: form.mode } : {}),
        rotate: form.rotate,
        keepHours: form.rotate ? Number(form.keep) : 0,
      }),
    onSettled: () => queries.invalidateQueries(),
  });
  // where not only those are meant that are shown, the service counts
  const counted = useQuery({
    queryKey: ["client-changes", chosen],
    queryFn: () => call<Schema["ClientsChanged"]>("POST", "/client-changes", { ...chosen, check: true }),
    enabled: count === undefined,
  });
  const total = count ?? counted.data?.chosen;
  const many = total === undefined ? "clients" : `${total.toLocaleString()} ${total === 1 ? "client" : "clients"}`;
  const badTag = lines(form.tags).find((t) => !/^[a-z0-9-]+=.+/i.test(t));
  const nothing = !lines(form.tags).length && !lines(form.untag).length && !form.enabled && !form.mode && !form.rotate;
  return (
    <Modal open onClose={close} title={`Change ${many}`}>
      {run.data ? (
        <>
          <Notice tone="in">
            <b>{run.data.chosen.toLocaleString()} changed in the draft.</b>{" "}
            {run.data.keptUntil &&
              `The present secrets are accepted until ${new Date(run.data.keptUntil).toLocaleString()}.`}
          </Notice>
          {run.data.secrets && <Secrets text={run.data.secrets} />}
          <Button className="mt-3" onClick={close}>
            Close
          </Button>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            run.mutate();
          }}
        >
          <Failure error={run.error} />
          <LinesField
            label="Set tags"
            field="tags"
            hint="key=value, one per line"
            value={form.tags}
            onChange={(tags) => set({ tags })}
            error={run.error}
            local={badTag && `${badTag} is not key=value`}
          />
          <LinesField
            label="Take tags away"
            field="untag"
            hint="their keys, one per line"
            rows={1}
            value={form.untag}
            onChange={(untag) => set({ untag })}
          />
          <Pick
            label="Switch"
            value={form.enabled}
            onChange={(enabled) => set({ enabled })}
            options={[
              { value: "", label: "leave as they are" },
              { value: "on", label: "on" },
              { value: "off", label: "off" },
            ]}
          />
          <Pick
            label="Message-Authenticator"
            value={form.mode}
            onChange={(mode) => set({ mode })}
            options={[
              { value: "", label: "leave as it is" },
              { value: "require", label: "require" },
              { value: "auto", label: "auto" },
              { value: "off", label: "off" },
            ]}
          />
          <Tick label="Make new shared secrets" checked={form.rotate} onChange={(rotate) => set({ rotate })} />
          {form.rotate && (
            <Pick
              label="Accept the present secrets for"
              value={form.keep}
              onChange={(keep) => set({ keep })}
              hint="The new ones are shown once, in one file. They count once the draft is published."
              options={[
                { value: "0", label: "no longer" },
                { value: "24", label: "one more day" },
                { value: "168", label: "one more week" },
                { value: "720", label: "thirty more days" },
              ]}
            />
          )}
          <div className="flex gap-2">
            <Button primary type="submit" needs="configure" disabled={nothing || !!badTag || run.isPending}>
              Change {many}
            </Button>
            <Button onClick={close}>Cancel</Button>
          </div>
        </form>
      )}
    </Modal>
  );
}
