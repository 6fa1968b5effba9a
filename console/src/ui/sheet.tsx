import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { call, type Schema } from "../api/client";
import { Button, Failure, Notice } from "./basic";
import { Field } from "./form";
import { Secrets } from "./secrets";
import { useHeld } from "./modal";

// A longer text is not shown for editing: the browser would be busy with it.
const shown = 200_000;

/** Imports CSV, after a look at what would happen. */
export function SheetImport({ path, hint, named }: { path: string; hint: ReactNode; named: string }) {
  const queries = useQueryClient();
  const { taken } = useHeld();
  const [csv, setCSV] = useState("");
  const [file, setFile] = useState("");
  const run = useMutation({
    mutationFn: (v: { check: boolean; partial: boolean }) =>
      call<Schema["ResultsImport"] & { secrets?: string }>("POST", path, {
        // a key container (RFC 6030) in the place of CSV
        [csv.trimStart().startsWith("<") ? "pskc" : "csv"]: csv,
        ...v,
      }),
    onSuccess: (r) => {
      if (!r.done) return;
      taken();
      queries.invalidateQueries();
    },
  });
  const r = run.data;
  const wrong = r?.lines.filter((l) => l.what === "wrong") ?? [];
  return (
    <>
      <Failure error={run.error} />
      <Field label="CSV" name="csv" error={run.error} hint={hint}>
        {(p) =>
          csv.length > shown ? (
            <p className="text-[13px]">
              {file}, {(csv.length / 1e6).toFixed(1)} MB
            </p>
          ) : (
            <textarea
              {...p}
              rows={8}
              className="field mono block text-[12.5px]"
              value={csv}
              onChange={(e) => {
                setCSV(e.target.value);
                run.reset();
              }}
              spellCheck={false}
            />
          )
        }
      </Field>
      <input
        aria-label="CSV file"
        type="file"
        accept=".csv,.xml,text/csv,text/plain,text/xml"
        className="mb-3 block text-[13px]"
        onChange={async (e) => {
          const chosen = e.target.files?.[0];
          if (chosen) {
            setCSV(await chosen.text());
            setFile(chosen.name);
            run.reset();
          }
        }}
      />
      {r && (
        <div className="mb-3">
          <Notice tone={r.done ? "in" : r.wrong ? "out" : "wait"}>
            <b>{r.done ? "Imported" : r.wrong ? "Nothing was stored" : "This is what would happen"}:</b>{" "}
            {r.added.toLocaleString()} new, {r.changed.toLocaleString()} changed, {r.same.toLocaleString()} the same,{" "}
            {r.wrong.toLocaleString()} wrong.
          </Notice>
          {wrong.length > 0 && (
            <table className="grid-table mt-2">
              <thead>
                <tr>
                  <th>Line</th>
                  <th>{named}</th>
                  <th>Field</th>
                  <th>What is wrong</th>
                </tr>
              </thead>
              <tbody>
                {wrong.slice(0, 50).map((l) => (
                  <tr key={l.number}>
                    <td>{l.number}</td>
                    <td className="mono">{l.match}</td>
                    <td className="mono">{l.field}</td>
                    <td className="text-out">{l.message}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {r.wrong > 50 && <p className="mt-1 text-[13px]">The first 50 of {r.wrong.toLocaleString()} are listed.</p>}
        </div>
      )}
      {r?.secrets && <Secrets text={r.secrets} />}
      <div className="mt-3 flex gap-2">
        <Button disabled={!csv.trim() || run.isPending} onClick={() => run.mutate({ check: true, partial: false })}>
          Check
        </Button>
        <Button
          primary
          disabled={!csv.trim() || run.isPending}
          onClick={() => run.mutate({ check: false, partial: false })}
        >
          Import
        </Button>
        {r && r.wrong > 0 && !r.done && (
          <Button onClick={() => run.mutate({ check: false, partial: true })}>Import the good lines</Button>
        )}
      </div>
    </>
  );
}
