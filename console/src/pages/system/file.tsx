import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { download, sendFile, type Comparison } from "../../api/file";
import { Changes } from "../../ui/changes";
import { Button, Failure } from "../../ui/basic";
import { Problems } from "../../ui/editor";
import { Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";

/** A backup of everything, as one encrypted file. */
export function BackupButton() {
  const [open, setOpen] = useState(false);
  const [passphrase, setPassphrase] = useState("");
  const [again, setAgain] = useState("");
  const [withKey, setWithKey] = useState(true);
  const make = useMutation({
    mutationFn: () => download("/backup", { passphrase, withoutKey: !withKey }),
    onSuccess: () => close(),
  });
  const close = () => {
    setOpen(false);
    setPassphrase("");
    setAgain("");
    make.reset();
  };
  const differ = again !== "" && again !== passphrase;
  return (
    <>
      <Button onClick={() => setOpen(true)}>Backup ...</Button>
      <Modal open={open} onClose={close} title="Back up everything">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <p className="mb-3">
            One file with the configuration, accounts, devices, attempts and the gear journal, as they are now. It is
            encrypted with a passphrase; without the passphrase nobody can open it. The service goes on meanwhile.
          </p>
          <Failure error={make.error} />
          {(["Passphrase", "The same again"] as const).map((label, i) => (
            <label key={label} className="mb-2 block text-[13px] font-semibold">
              {label}
              <input
                type="password"
                autoComplete="new-password"
                className="field mt-1 block w-full"
                value={i ? again : passphrase}
                onChange={(e) => (i ? setAgain : setPassphrase)(e.target.value)}
              />
            </label>
          ))}
          {differ && <p className="mb-2 text-out">The two are not the same.</p>}
          <Tick label="With the key file, which opens the secrets" checked={withKey} onChange={setWithKey} />
          {!withKey && (
            <p className="mb-2 text-soft">
              To restore, you need the file <code>key</code> of the data directory from elsewhere.
            </p>
          )}
          <p className="mb-3 text-soft">
            Restore it on a new machine with <code>tollgated -data DIR -restore FILE</code>. For millions of records use{" "}
            <code>tollgate backup create FILE</code>.
          </p>
          <Button primary type="submit" disabled={make.isPending || passphrase.length < 12 || again !== passphrase}>
            {make.isPending ? "Being made" : "Make the backup"}
          </Button>
        </form>
      </Modal>
    </>
  );
}

/** The configuration as one file: to take away, to compare, to put into the draft. */
export function FileButtons() {
  const queries = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const [text, setText] = useState("");
  const [exporting, setExporting] = useState(false);
  const [secrets, setSecrets] = useState(false);
  const [over, setOver] = useState(false);
  const compare = useMutation({ mutationFn: (t: string) => sendFile<Comparison>("/file/compare", t) });
  const apply = useMutation({
    mutationFn: () => sendFile("/file/apply?mark=" + encodeURIComponent(compare.data!.mark), text),
    onSuccess: () => {
      setText("");
      queries.invalidateQueries();
    },
  });
  const c = compare.data;
  const faults = c?.problems.filter((p) => !p.warning) ?? [];
  return (
    <>
      <Button onClick={() => setExporting(true)}>Export ...</Button>
      <input
        ref={input}
        type="file"
        accept=".yaml,.yml"
        aria-label="Configuration file"
        className="hidden"
        onChange={async (e) => {
          const t = await e.target.files?.[0]?.text();
          e.target.value = "";
          if (t) {
            setText(t);
            setOver(false);
            apply.reset();
            compare.mutate(t);
          }
        }}
      />
      <Button onClick={() => input.current?.click()}>Compare with a file ...</Button>
      <Modal open={exporting} onClose={() => setExporting(false)} title="Export the configuration">
        <p className="mb-3">
          One YAML file with the whole configuration. Records (accounts, devices, operators, attempts) are not included.
        </p>
        <Tick label="With secrets, sealed: only this server can open them" checked={secrets} onChange={setSecrets} />
        <div className="flex gap-2">
          {["draft", "running"].map((of) => (
            <a
              key={of}
              download={`tollgate-${of}.yaml`}
              href={`/api/v1/file?of=${of}&secrets=${secrets}`}
              className="inline-block rounded border border-hair bg-sheet px-[11px] py-[3px] text-[13px] font-semibold"
              onClick={() => setExporting(false)}
            >
              {of === "draft" ? "The draft" : "What is running"}
            </a>
          ))}
        </div>
      </Modal>
      <Modal wide open={text !== ""} onClose={() => setText("")} title="The file against the draft">
        <Failure error={compare.error ?? apply.error} />
        {c && (
          <>
            <p className="mb-2 text-soft">
              It holds {c.lists.join(", ")}; other lists stay as they are.
              {c.comments > 0 && ` ${c.comments} comments are not kept.`}
            </p>
            <Changes list={c.changes} more={c.more} />
            <div className="mt-2">
              <Problems list={faults} />
            </div>
            {c.others.length > 0 && (
              <div className="mt-3">
                <p className="mb-1">
                  {c.others.length} {c.others.length === 1 ? "change waits" : "changes wait"} in the draft. Where the
                  file says otherwise, they would be overwritten.
                </p>
                <Tick label="Replace them" checked={over} onChange={setOver} />
              </div>
            )}
            <div className="mt-3 flex gap-2 border-t border-hair pt-3">
              <Button
                primary
                disabled={
                  apply.isPending || c.changes.length === 0 || faults.length > 0 || (c.others.length > 0 && !over)
                }
                onClick={() => apply.mutate()}
              >
                Put into the draft
              </Button>
              <Button onClick={() => setText("")}>Keep the draft</Button>
            </div>
          </>
        )}
      </Modal>
    </>
  );
}
