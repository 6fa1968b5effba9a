import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { useDebounced, useObjects } from "../../api/hooks";
import { Button, Failure } from "../../ui/basic";
import { useCompletions } from "../../ui/fields";
import { TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";

type Hour = Schema["FirstHour"];
type Row = { group: string; vlan: string };

/** Gives the people of groups a VLAN. */
export function ResultsStep({ hour, done }: { hour: Hour; done: () => void }) {
  const directories = useObjects("directories").data?.items ?? [];
  const [rows, setRows] = useState<Row[]>([{ group: "", vlan: "" }]);
  const [others, setOthers] = useState("");
  const [ports, setPorts] = useState("wired");
  const methods = useQuery({
    queryKey: ["methods"],
    queryFn: () => call<{ items: Schema["ConfigMethod"][] }>("GET", "/methods"),
    staleTime: Infinity,
  });
  const titles = hour.methods.map((m) => methods.data?.items.find((x) => x.name === m)?.title ?? m);
  const save = useMutation({
    mutationFn: async () => {
      const out = [];
      for (const row of rows.filter((r) => r.group.trim() || r.vlan.trim())) {
        const found = await lookUp(directories, row.group.trim());
        out.push({ ...row, group: row.group.trim(), ...found });
      }
      return call("POST", "/first-hour/results", { rows: out, others, ports });
    },
    onSuccess: done,
  });
  const set = (i: number, patch: Partial<Row>) => setRows(rows.map((r, j) => (i === j ? { ...r, ...patch } : r)));
  return (
    <form
      className="max-w-[760px]"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Failure error={save.error} />
      {rows.map((row, i) => (
        <div key={i} className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1">
          <GroupField
            label={`Group ${i + 1}`}
            directories={directories}
            value={row.group}
            onChange={(group) => set(i, { group })}
          />
          <label className="flex items-center gap-2 text-soft">
            VLAN
            <input
              aria-label={`VLAN ${i + 1}`}
              className="field mono w-20"
              value={row.vlan}
              onChange={(e) => set(i, { vlan: e.target.value })}
            />
          </label>
          {rows.length > 1 && (
            <Button aria-label={`Remove group ${i + 1}`} onClick={() => setRows(rows.filter((_, j) => j !== i))}>
              Remove
            </Button>
          )}
        </div>
      ))}
      <Button onClick={() => setRows([...rows, { group: "", vlan: "" }])}>Another group</Button>
      <div className="mt-3 grid gap-x-4 sm:grid-cols-2">
        <TextField
          label="VLAN of everybody else"
          field="others"
          mono
          placeholder="refuse"
          hint="Empty refuses them."
          value={others}
          onChange={setOthers}
          error={save.error}
        />
        <Pick
          label="On"
          value={ports}
          onChange={setPorts}
          options={[
            { value: "wired", label: "wired ports" },
            { value: "wireless", label: "Wi-Fi" },
            { value: "any", label: "everything that asks" },
          ]}
        />
      </div>
      <p className="hint mb-2">By {titles.join(", ")}: what everybody of the realm can use.</p>
      <Button primary type="submit" needs="configure" disabled={save.isPending}>
        Make it
      </Button>
    </form>
  );
}

/** A group that a directory knows is picked there, so that policies follow it when it is renamed. */
async function lookUp(directories: Schema["Directory"][], group: string) {
  for (const d of directories) {
    const found = await call<Schema["Groups"]>(
      "GET",
      `/directories/${d.id}/groups?q=${encodeURIComponent(group)}&limit=20`,
    );
    const one = found.items.find((g) => g.name.toLowerCase() === group.toLowerCase());
    if (one) return { directory: d.name, id: one.id };
  }
  return {};
}

function GroupField({
  label,
  directories,
  value,
  onChange,
}: {
  label: string;
  directories: Schema["Directory"][];
  value: string;
  onChange: (v: string) => void;
}) {
  const late = useDebounced(value, 200);
  const found = useQuery({
    queryKey: ["first-groups", directories.map((d) => d.id), late],
    queryFn: async () => {
      const lists = await Promise.all(
        directories.map((d) =>
          call<Schema["Groups"]>("GET", `/directories/${d.id}/groups?q=${encodeURIComponent(late)}&limit=20`),
        ),
      );
      return lists.flatMap((l) => l.items.map((g) => g.name));
    },
    enabled: directories.length > 0,
    placeholderData: (b) => b,
  });
  const local = useCompletions("group", late).map((c) => c.value);
  const id = "groups-" + label.replace(" ", "-");
  return (
    <>
      <input
        aria-label={label}
        placeholder="Group"
        list={id}
        className="field w-64"
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
      <datalist id={id}>
        {[...new Set([...(found.data ?? []), ...local])].map((g) => (
          <option key={g}>{g}</option>
        ))}
      </datalist>
      {found.error && <Failure error={found.error} />}
    </>
  );
}
