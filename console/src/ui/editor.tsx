import { useEffect, useState, type ReactNode } from "react";
import { useLocation, useNavigate } from "react-router";
import { useRemove, useSave, type Kind } from "../api/hooks";
import { Refused, type Schema } from "../api/client";
import { Button, Failure, Notice, sentence } from "./basic";
import { Modal } from "./modal";
import { Guard, useUnsaved } from "./guard";
import { ObjectHistory } from "./history";

type Meta = { id: string; tag: string; name: string; problems: Schema["ConfigProblem"][]; changedBy?: string };

/** Problems of an object of the draft. */
export function Problems({ list }: { list: Schema["ConfigProblem"][] }) {
  if (list.length === 0) return null;
  return (
    <div className="mb-3 space-y-2">
      {list.map((p, i) => (
        <Notice key={i} tone={p.warning ? "warn" : "out"}>
          <b>{sentence(p.message)}</b> {p.remedy}
        </Notice>
      ))}
    </div>
  );
}

/** What the audit calls each kind. */
const nouns: Record<Kind, string> = {
  clients: "client",
  directories: "directory",
  realms: "realm",
  lanes: "lane",
  passes: "pass",
  authorities: "authority",
  certificates: "certificate",
  trusts: "trust",
  calendars: "calendar",
  pools: "pool",
  remotes: "remote",
  vendors: "vendor",
  overrides: "override",
  expectations: "expectation",
  "command-lists": "command-list",
  feeds: "feed",
};

/** The frame of every form that edits an object of the draft: faults, save, save and publish, remove. */
export function Editor<K extends Kind>({
  kind,
  object,
  body,
  onSaved,
  children,
  noun,
  accepted,
}: {
  kind: K;
  object?: Meta;
  body: () => unknown;
  noun: string;
  children: (error: unknown) => ReactNode;
  /** The tag after a change that was made beside the form, which the form takes in. */
  accepted?: string;
  onSaved?: (saved: { secret?: string; revision?: number; id: string }) => void;
}) {
  const save = useSave(kind);
  const remove = useRemove(kind);
  const go = useNavigate();
  // What was saved is told on the page of a new object too, which opens then.
  const before: { saved?: number } | null = useLocation().state;
  const [asking, setAsking] = useState(false);
  const unsaved = useUnsaved(body);
  // The revision as which it was saved, 0 for the draft; undefined once something else was typed.
  const [told, setTold] = useState(before?.saved);
  // The tag of the object as this form read it, or as it was saved last: whoever changes it meanwhile is noticed.
  const [tag, setTag] = useState(object?.tag);
  useEffect(() => {
    if (accepted) setTag(accepted);
  }, [accepted]);
  const submit = (publish: boolean) =>
    save.mutate(
      { id: object?.id, tag, body: body(), publish },
      {
        onSuccess: (saved) => {
          setTag(saved.object.tag);
          unsaved.saved();
          setTold(saved.revision ?? 0);
          onSaved?.({ secret: saved.secret, revision: saved.revision, id: saved.object.id });
          if (!object) {
            go(`/${kind}/${saved.object.id}`, { replace: true, state: { saved: saved.revision ?? 0 } });
          }
        },
      },
    );
  return (
    <form
      {...unsaved.form}
      onInput={() => setTold(undefined)}
      onSubmit={(e) => {
        e.preventDefault();
        submit(false);
      }}
    >
      <Guard of={unsaved} />
      <Failure error={save.error ?? remove.error} />
      {save.error instanceof Refused && save.error.status === 412 && (
        <Button className="mt-2" onClick={() => location.reload()}>
          Reload it
        </Button>
      )}
      <div className="mt-3">{children(save.error)}</div>
      <div className="mt-2 flex items-center gap-2 border-t border-hair pt-3">
        <Button primary type="submit" needs="configure" disabled={save.isPending}>
          Save to the draft
        </Button>
        <Button needs="configure" disabled={save.isPending} onClick={() => submit(true)}>
          Save and publish
        </Button>
        {told !== undefined && (
          <span className="text-[13px] text-in" role="status">
            {told ? `Published as revision ${told}.` : "Saved in the draft."}
          </span>
        )}
        {object && (
          <Button danger needs="configure" className="ml-auto" onClick={() => setAsking(true)}>
            Remove
          </Button>
        )}
      </div>
      {object && <ObjectHistory kind={nouns[kind]} object={object.id} />}
      {object && (
        <Modal open={asking} onClose={() => setAsking(false)} title={`Remove ${noun} ${object.name}?`}>
          <p className="mb-4">It is removed from the draft. What is running stays in effect until you publish.</p>
          <div className="flex gap-2">
            <Button
              danger
              onClick={() =>
                remove.mutate(
                  { id: object.id, tag: tag ?? object.tag },
                  {
                    onSuccess: () => {
                      unsaved.saved();
                      go(`/${kind}`);
                    },
                    onSettled: () => setAsking(false),
                  },
                )
              }
            >
              Remove from the draft
            </Button>
            <Button onClick={() => setAsking(false)}>Keep</Button>
          </div>
        </Modal>
      )}
    </form>
  );
}
