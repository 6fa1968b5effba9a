import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, call, unmet, type Schema } from "./api/client";
import { useDraft, useRehearsal } from "./api/hooks";
import { ago, Button, ButtonLink, Failure, sentence } from "./ui/basic";
import { Changes } from "./ui/changes";
import { Problems } from "./ui/editor";
import { TextField, Tick } from "./ui/form";
import { useAskedToPublish } from "./ui/publish";
import { Modal } from "./ui/modal";

/** What is not published yet, always in sight. */
export function DraftBar() {
  const draft = useDraft();
  const queries = useQueryClient();
  const rehearsed = useRehearsal();
  const [reading, setReading] = useState(false);
  const [publishing, setPublishing] = useState(false);
  const [note, setNote] = useState("");
  const [despite, setDespite] = useState(false);
  const [asking, setAsking] = useState(false); // whether to discard everything
  const publish = useMutation({
    mutationFn: () => api.POST("/draft/publish", { body: { note, despite } }),
    onSuccess: () => {
      setPublishing(false);
      setDespite(false);
      setNote("");
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const discard = useMutation({ mutationFn: () => api.DELETE("/draft"), onSuccess: () => location.reload() }); // open forms show what was discarded
  const part = useMutation({
    mutationFn: (p: Schema["DiscardPart"]) => call("POST", "/draft/discard", p),
    onSettled: () => queries.invalidateQueries(),
  });
  const ask = useMutation({
    mutationFn: () => api.POST("/draft/ask", { body: { note } }),
    onSuccess: () => {
      setPublishing(false);
      setNote("");
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const withdraw = useMutation({
    mutationFn: () => api.DELETE("/draft/ask"),
    onSettled: () => queries.invalidateQueries(),
  });
  useAskedToPublish(() => {
    publish.reset();
    ask.reset();
    setPublishing(true);
  });
  if (!draft.data) return null;
  const { asked } = draft.data;
  /** Whether somebody else has asked for exactly this. */
  const agreeing = asked && !asked.own && !asked.stale && !asked.revision;
  const asks = draft.data.needsSecond && !agreeing;
  const { changes, more, problems, revision } = draft.data;
  const count = changes.length + more;
  if (changes.length === 0) {
    return (
      <span className="text-soft">
        {revision ? `Running revision ${revision} · nothing unpublished` : "Nothing published yet"}
      </span>
    );
  }
  const faults = problems.filter((p) => !p.warning);
  return (
    <>
      <span>
        <b>Draft</b> · {count.toLocaleString()} {count === 1 ? "change" : "changes"}
        {faults.length > 0 && <span className="text-out"> · {faults.length} to correct</span>}
      </span>
      <Button onClick={() => setReading(true)}>Read</Button>
      <ButtonLink to="/rehearsal">Rehearse</ButtonLink>
      {asked && !asked.revision && (
        <span className={asked.stale ? "text-out" : "text-brass-ink"} title={asked.note}>
          {asked.own ? "you ask" : `${asked.operator} asks`} to publish{asked.stale && ", changed since"}
        </span>
      )}
      <Button
        primary
        needs="configure"
        onClick={() => {
          publish.reset();
          ask.reset();
          setPublishing(true);
        }}
      >
        {asks ? "Ask to publish" : agreeing ? "Agree" : "Publish"}
      </Button>
      <Modal wide open={reading} onClose={() => setReading(false)} title={`Draft against revision ${revision}`}>
        <Problems list={faults} />
        <Failure error={part.error} />
        <Changes list={changes} more={more} discard={(p) => part.mutate(p)} />
        <div className="sticky -bottom-5 -mx-5 mt-4 -mb-5 flex flex-wrap gap-2 border-t border-hair bg-paper px-5 py-3">
          <Button
            primary
            needs="configure"
            onClick={() => {
              setReading(false);
              setPublishing(true);
            }}
          >
            Publish ...
          </Button>
          <Button
            onClick={() => {
              setReading(false);
              setAsking(false);
            }}
          >
            Close
          </Button>
          {asking ? (
            <span className="ml-auto flex items-center gap-2 text-[13px]">
              Take back {count === 1 ? "the change" : `all ${count.toLocaleString()} changes`}, of everybody?
              <Button danger disabled={discard.isPending} onClick={() => discard.mutate()}>
                Discard them
              </Button>
              <Button onClick={() => setAsking(false)}>Keep</Button>
            </span>
          ) : (
            <Button danger needs="configure" className="ml-auto" onClick={() => setAsking(true)}>
              Discard all changes
            </Button>
          )}
        </div>
      </Modal>
      <Modal
        kept
        open={publishing}
        onClose={() => setPublishing(false)}
        title={asks ? `Ask to publish revision ${revision + 1}` : `Publish as revision ${revision + 1}`}
      >
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (asks) ask.mutate();
            else publish.mutate();
          }}
        >
          <Failure error={publish.error ?? ask.error ?? withdraw.error} />
          {agreeing && (
            <p className="mb-3">
              <b>{asked.operator}</b> asks for this{asked.note ? `: ${asked.note}` : "."} You agree by publishing it.
            </p>
          )}
          {asks && (
            <p className="mb-3">
              It touches what people get, so a second operator has to publish it, exactly as it is now.
              {asked?.own && !asked.stale && " You have asked for it; another one has to publish it."}
            </p>
          )}
          <p className="mb-3">
            {count === 1 ? "One change takes" : `${count.toLocaleString()} changes take`} effect{" "}
            {asks ? "when another operator publishes" : "at once"}. You can return to any earlier revision in History.
          </p>
          <details className="mb-3 max-h-60 overflow-y-auto text-[13px]" open={count <= 5}>
            <summary className="cursor-pointer">What is published</summary>
            <Changes list={changes} more={more} />
          </details>
          <p className="mb-3 text-[13px]">
            {!rehearsed.data || rehearsed.data.outdated ? (
              <>
                This draft has not been rehearsed.{" "}
                <Link className="underline" to="/rehearsal" onClick={() => setPublishing(false)}>
                  Rehearse it first
                </Link>
              </>
            ) : (
              <>
                Rehearsed {ago(rehearsed.data.ended)}:{" "}
                {rehearsed.data.changed === 0
                  ? "no attempt would change"
                  : `${rehearsed.data.changed.toLocaleString()} of ${rehearsed.data.total.toLocaleString()} attempts would have a different result`}
                .
              </>
            )}
          </p>
          <TextField label="Note" hint="Reason for this change" value={note} onChange={setNote} autoFocus />
          <Problems list={problems} />
          {faults.length > 0 && (
            <p className="mb-3 text-out">
              {sentence("Correct what is marked red before you publish; what is running stays in effect")}
            </p>
          )}
          {unmet(publish.error) && (
            <Tick label="Publish despite the expectations" checked={despite} onChange={setDespite} />
          )}
          <div className="flex gap-2">
            <Button
              primary
              type="submit"
              disabled={publish.isPending || ask.isPending || !!(asks && asked?.own && !asked.stale)}
            >
              {asks ? "Ask another operator" : "Publish"}
            </Button>
            {asked?.own && <Button onClick={() => withdraw.mutate()}>Withdraw</Button>}
            <Button onClick={() => setPublishing(false)}>Cancel</Button>
          </div>
        </form>
      </Modal>
    </>
  );
}
