import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { Button, Failure, When } from "../../ui/basic";
import { CopyButton } from "../../ui/device-settings";
import { Tick, TextField } from "../../ui/form";
import { Modal } from "../../ui/modal";

/** Makes a code for somebody whose device is not at hand, and shows it once. */
export function TemporaryCode({ person: known, store }: { person?: string; store?: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button needs="assist" onClick={() => setOpen(true)}>
        Temporary code ...
      </Button>
      <Modal open={open} onClose={() => setOpen(false)} title="Temporary code">
        {open && <Give known={known} store={store} close={() => setOpen(false)} />}
      </Modal>
    </>
  );
}

function Give({ known, store, close }: { known?: string; store?: string; close: () => void }) {
  const queries = useQueryClient();
  const [person, setPerson] = useState(known ?? "");
  const [hours, setHours] = useState("24");
  const [once, setOnce] = useState(false);
  const give = useMutation({
    mutationFn: () =>
      call<Schema["TemporaryCode"]>("POST", "/temporary-codes", { person, store, hours: Number(hours), once }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["factors"] }),
  });
  if (give.data)
    return (
      <>
        <p className="mb-2">
          Tell it to {give.data.person}. It is good {give.data.once ? "once" : "as often as needed"} until{" "}
          <When at={give.data.until} long />. <b>Shown only here.</b>
        </p>
        <p className="mono mb-4 flex items-center gap-3 text-[20px]" data-secret>
          {give.data.code} <CopyButton text={give.data.code} />
        </p>
        <Button primary onClick={close}>
          Done
        </Button>
      </>
    );
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        give.mutate();
      }}
    >
      <p className="mb-3 text-[13px] text-soft">
        For somebody whose device is not at hand. It counts wherever a one-time code does; one from before counts no
        more.
      </p>
      {!known && (
        <TextField
          label="Person"
          field="person"
          mono
          autoFocus
          value={person}
          onChange={setPerson}
          error={give.error}
        />
      )}
      <TextField
        label="Good for (hours)"
        field="hours"
        type="number"
        min={1}
        max={336}
        autoFocus={!!known}
        value={hours}
        onChange={setHours}
        error={give.error}
      />
      <Tick label="Good once only" checked={once} onChange={setOnce} />
      <Failure error={give.error} />
      <div className="mt-3 flex gap-2">
        <Button primary type="submit" disabled={!person || give.isPending}>
          Make the code
        </Button>
        <Button onClick={close}>Cancel</Button>
      </div>
    </form>
  );
}
