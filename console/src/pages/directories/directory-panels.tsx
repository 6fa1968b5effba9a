import { Tabs } from "radix-ui";
import { useState } from "react";
import { useSearchParams } from "react-router";
import type { Schema } from "../../api/client";
import { Button, Failure, Notice } from "../../ui/basic";
import type { Retagged } from "../../ui/editor";
import { Steps, useSteps } from "../../ui/steps";
import { Copy } from "./directory-copy";
import { Groups } from "./directory-groups";
import { Membership } from "./directory-membership";
import { Guard, Person } from "./directory-person";
import { Tree } from "./directory-tree";

type Directory = Schema["Directory"];

/** What can be done with a directory, beside its settings. */
export function DirectoryPanels({
  directory,
  body,
  changed,
}: {
  directory: Directory;
  body: () => object;
  changed: (tag: Retagged) => void;
}) {
  const [params, setParams] = useSearchParams();
  const panels: [string, string][] = [
    ["test", "Test"],
    ["groups", "Groups"],
    ["person", "Find a person"],
    ["tree", "Browse"],
    ["copy", "Copies"],
    ["guard", "Lockout guard"],
  ];
  if (directory.kind === "active-directory") panels.push(["membership", "Membership"]);
  return (
    <Tabs.Root value={params.get("panel") ?? "test"} onValueChange={(panel) => setParams({ panel }, { replace: true })}>
      <Tabs.List aria-label="Panels" className="mb-4 flex flex-wrap gap-x-4 border-b border-hair">
        {panels.map(([value, label]) => (
          <Tabs.Trigger
            key={value}
            value={value}
            className="-mb-px border-b-2 border-transparent pb-1 text-soft data-[state=active]:border-brass data-[state=active]:font-semibold data-[state=active]:text-ink"
          >
            {label}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      <Tabs.Content value="test" tabIndex={-1}>
        <TestPanel body={body} id={directory.id} />
      </Tabs.Content>
      <Tabs.Content value="groups" tabIndex={-1}>
        <Groups directory={directory} changed={changed} />
      </Tabs.Content>
      <Tabs.Content value="person" tabIndex={-1}>
        <Person directory={directory} />
      </Tabs.Content>
      <Tabs.Content value="tree" tabIndex={-1}>
        <Tree directory={directory} />
      </Tabs.Content>
      <Tabs.Content value="copy" tabIndex={-1}>
        <Copy directory={directory} />
      </Tabs.Content>
      <Tabs.Content value="guard" tabIndex={-1}>
        <Guard directory={directory} />
      </Tabs.Content>
      <Tabs.Content value="membership" tabIndex={-1}>
        <Membership directory={directory} />
      </Tabs.Content>
    </Tabs.Root>
  );
}

/** Tests what is typed, saved or not, and shows each step as it happens. */
export function TestPanel({ body, id }: { body: () => object; id?: string }) {
  const [person, setPerson] = useState("");
  const job = useSteps<{ ok: boolean }>("/directory-test");
  const found = job.steps.find((s) => s.person)?.person;
  const failed = !job.running && !job.error && job.steps.length > 0 && !job.end?.ok;
  return (
    <section aria-label="Test">
      <p className="mb-3 text-soft">Tests each step with the settings on the left, saved or not. It changes nothing.</p>
      <form
        className="mb-3 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          job.run({ ...body(), ...(id ? { id } : {}), ...(person ? { person } : {}) });
        }}
      >
        <input
          aria-label="Person to look up"
          placeholder="Also look up a person"
          className="field max-w-72"
          value={person}
          onChange={(e) => setPerson(e.target.value)}
        />
        {job.running ? (
          <Button onClick={job.cancel}>Cancel</Button>
        ) : (
          <Button primary type="submit">
            Test now
          </Button>
        )}
      </form>
      <Failure error={job.error} />
      <Steps steps={job.steps} />
      {job.end?.ok && (
        <div className="mt-3">
          <Notice tone="in">
            <b>
              {job.steps.some((s) => s.state === "warn") ? "It works. See the warnings below." : "Every step passed."}
            </b>
          </Notice>
        </div>
      )}
      {failed && (
        <div className="mt-3">
          <Notice tone="out">
            <b>The test failed</b> at the step marked above.
          </Notice>
        </div>
      )}
      {found && (
        <div className="mt-4">
          <h2 className="mb-1">{found.display || found.name}</h2>
          <dl className="grid grid-cols-[130px_1fr] text-[13px]">
            {[
              ["DN", found.id],
              ["name", found.name],
              ["groups", found.groups?.join(", ")],
              ["state", found.state === "ok" ? "may sign in" : found.state],
              ...Object.entries(found.attributes ?? {}).map(([k, v]) => [k, (v ?? []).join(", ")]),
            ].map(([k, v]) => (
              <div key={k} className="contents">
                <dt className="border-b border-hair py-1 text-soft">{k}</dt>
                <dd className="mono border-b border-hair py-1 break-words">{v || "-"}</dd>
              </div>
            ))}
          </dl>
        </div>
      )}
    </section>
  );
}
