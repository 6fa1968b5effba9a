import { useQuery } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { useLocation, useNavigate } from "react-router";
import { useDraft, useRemove, useSave, type Kind } from "../api/hooks";
import { call, Refused, type Schema } from "../api/client";
import { Button, Failure, Notice, sentence } from "./basic";
import { Modal } from "./modal";
import { Guard, useUnsaved } from "./guard";
import { ObjectHistory } from "./history";
import { askToPublish } from "./publish";

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

/** Where an object is used, before it is removed. */
function Uses({ kind, id, noun }: { kind: Kind; id: string; noun: string }) {
  const uses = useQuery({
    queryKey: ["uses", kind, id],
    queryFn: () => call<Schema["Uses"]>("GET", `/uses/${kind}/${id}`),
    gcTime: 0,
  });
  const items = uses.data?.items ?? [];
  if (uses.isLoading) return <p className="mb-3 text-soft">Looking where it is used ...</p>;
  if (items.length === 0) return uses.isSuccess ? <p className="mb-3">Nothing uses this {noun}.</p> : null;
  return (
    <div className="mb-3 text-[13px]">
      <Notice tone="warn">
        <b>It is used in {items.length === 1 ? "one place" : `${items.length} places`}</b>, which you have to correct
        before you publish:
        <ul className="mt-1 max-h-60 overflow-y-auto">
          {items.map((p, i) => (
            <li key={i}>
              {p.kind} <b>{p.object}</b> <code className="text-soft">{p.field}</code>
            </li>
          ))}
        </ul>
      </Notice>
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
  sources: "source",
  scopes: "scope",
  subscribers: "subscriber",
  "device-kinds": "device-kind",
};

/** A change of an object that was made beside its form: the tag before it, and the one after it. */
export type Retagged = { from: string; to: string };

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
  /** A change that was made beside the form, which the form takes in. */
  accepted?: Retagged;
  onSaved?: (saved: { secret?: string; id: string }) => void;
}) {
  const save = useSave(kind);
  const remove = useRemove(kind);
  const go = useNavigate();
  // What was saved is told on the page of a new object too, which opens then.
  const before: { saved?: boolean } | null = useLocation().state;
  const [asking, setAsking] = useState(false);
  const unsaved = useUnsaved(body);
  const draft = useDraft();
  // Whether it was saved; no longer told once something else was typed.
  const [told, setTold] = useState(before?.saved ?? false);
  // The tag of the object as this form read it, or as it was saved last: whoever changes it meanwhile is noticed.
  const [tag, setTag] = useState(object?.tag);
  useEffect(() => {
    if (accepted) setTag((tag) => (tag === accepted.from ? accepted.to : tag));
  }, [accepted]);
  const submit = (publish: boolean) =>
    save.mutate(
      { id: object?.id, tag, body: body() },
      {
        onSuccess: (saved) => {
          setTag(saved.object.tag);
          unsaved.saved();
          setTold(true);
          onSaved?.({ secret: saved.secret, id: saved.object.id });
          if (publish) askToPublish();
          if (!object) {
            go(`/${kind}/${saved.object.id}`, { replace: true, state: { saved: true } });
          }
        },
      },
    );
  return (
    <form
      {...unsaved.form}
      onInput={() => setTold(false)}
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
          Save and publish ...
        </Button>
        {told && (
          <span className="text-[13px] text-in" role="status">
            {draft.data?.changes.length === 0 ? "Saved, and in effect." : "Saved in the draft."}
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
          {asking && <Uses kind={kind} id={object.id} noun={noun} />}
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
