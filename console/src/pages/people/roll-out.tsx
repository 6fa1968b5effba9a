import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { call, type Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { Button, Failure, When } from "../../ui/basic";
import { Field } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { askToPublish } from "../../ui/publish";
import { Invite } from "./invite";

const titles: Record<string, string> = {
  any: "a code or an approval on the phone",
  code: "a one-time code",
  approval: "an approval on the phone",
};

/** The steps from nobody asked to everybody asked, for the people of a group. */
export function RollOut({ group, people, enrolled }: { group: string; people: number; enrolled: number }) {
  const without = people - enrolled;
  const share = people ? (100 * enrolled) / people : 0;
  return (
    <ol className="mb-5 grid gap-x-6 gap-y-3 border-y border-hair py-3 lg:grid-cols-3" aria-label="Roll out">
      <Step n={1} title="Who would be refused">
        <p>
          <b>
            {without} of {people}
          </b>{" "}
          would be refused today if they were asked.
        </p>
        <span className="mt-2 block h-2 rounded-sm bg-[var(--color-hair)]" aria-hidden>
          <span className="block h-2 rounded-sm bg-[var(--color-in)]" style={{ width: `${share}%` }} />
        </span>
      </Step>
      <Step n={2} title="Invite them">
        {without === 0 ? (
          <p className="text-soft">Everybody is ready.</p>
        ) : group ? (
          <p className="flex flex-wrap gap-2">
            <Invite
              whom={{ group }}
              label={without === 1 ? "Invite the one without" : `Invite the ${without} without`}
            />
          </p>
        ) : (
          <p className="text-soft">Open a group to invite its people.</p>
        )}
        <p className="mt-1 text-[12.5px] text-soft">The number falls as they enrol; this page follows.</p>
      </Step>
      <Step n={3} title="Ask them">
        <Ask group={group} />
        <p className="mt-1 text-[12.5px] text-soft">
          In the draft, with a date until when people without are admitted. The{" "}
          <Link className="underline" to="/rehearsal">
            rehearsal
          </Link>{" "}
          names who would be refused.
        </p>
      </Step>
    </ol>
  );
}

function Step({ n, title, children }: { n: number; title: string; children: ReactNode }) {
  return (
    <li className="list-none text-[13.5px]">
      <h2 className="mb-1 text-[14px] font-semibold">
        <span className="mr-2 text-brass">{n}</span>
        {title}
      </h2>
      {children}
    </li>
  );
}

/** Has a lane of the draft ask the group as well. */
function Ask({ group }: { group: string }) {
  const [open, setOpen] = useState(false);
  const [form, setForm] = useState({ lane: "", factor: "any", until: "" });
  const queries = useQueryClient();
  const lanes = useObjects("lanes");
  const lane = lanes.data?.items.find((l) => l.id === form.lane);
  const ask = useMutation({
    mutationFn: () =>
      call<Schema["Rollout"]>("POST", "/factor-rollout", {
        group,
        lane: form.lane,
        factor: lane?.secondFactor ? undefined : form.factor,
        until: form.until ? new Date(form.until + "T00:00").toISOString() : undefined,
      }),
    onSuccess: () => queries.invalidateQueries(),
  });
  const close = () => {
    setOpen(false);
    ask.reset();
  };
  const whom = group || "everybody";
  return (
    <>
      <Button needs="configure" onClick={() => setOpen(true)}>
        Have a lane ask them ...
      </Button>
      <Modal open={open} onClose={close} title={`Ask ${whom} for a second factor`}>
        {ask.data ? (
          <>
            <p className="mb-3" role="status">
              In the draft lane <b>{ask.data.lane}</b> asks for {titles[ask.data.factor]},{" "}
              {ask.data.when ? (
                <>
                  if <code>{ask.data.when}</code>
                </>
              ) : (
                "of everybody"
              )}
              . {ask.data.without} of {ask.data.people} have none that it takes
              {ask.data.until ? (
                <>
                  {" "}
                  and are admitted until <When at={ask.data.until} long />
                </>
              ) : ask.data.without > 0 ? (
                " and would be refused"
              ) : null}
              .
            </p>
            <div className="flex gap-2">
              <Button
                primary
                onClick={() => {
                  close();
                  askToPublish();
                }}
              >
                Publish ...
              </Button>
              <Button onClick={close}>Later</Button>
            </div>
          </>
        ) : (
          <form
            onSubmit={(e) => {
              e.preventDefault();
              ask.mutate();
            }}
          >
            <Failure error={ask.error} />
            <Pick
              label="Lane"
              field="lane"
              value={form.lane}
              onChange={(lane) => setForm({ ...form, lane })}
              error={ask.error}
              options={[
                { value: "", label: "choose one" },
                ...(lanes.data?.items.map((l) => ({ value: l.id, label: l.name })) ?? []),
              ]}
            />
            {lane?.secondFactor ? (
              <p className="mb-3 text-[13px] text-soft">
                It asks for {titles[lane.secondFactor]} already,{" "}
                {lane.factor?.when ? `if ${lane.factor.when}` : "of everybody"}.
              </p>
            ) : (
              <Pick
                label="What is asked for"
                field="factor"
                value={form.factor}
                onChange={(factor) => setForm({ ...form, factor })}
                error={ask.error}
                options={Object.entries(titles).map(([value, label]) => ({ value, label }))}
              />
            )}
            <Field
              label="Admit people without until"
              name="until"
              error={ask.error}
              hint="They read how many days are left, at each sign-in. Without a date they are refused at once."
            >
              {(p) => (
                <input
                  {...p}
                  type="date"
                  className="field"
                  value={form.until}
                  onChange={(e) => setForm({ ...form, until: e.target.value })}
                />
              )}
            </Field>
            <Button primary type="submit" needs="configure" disabled={!form.lane || ask.isPending}>
              Ask them in the draft
            </Button>
          </form>
        )}
      </Modal>
    </>
  );
}
