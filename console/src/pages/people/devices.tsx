import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useDebounced } from "../../api/hooks";
import { ago, Button, ButtonLink, Empty, Failure, PageHead, rowKeys, Trail, Verdict, When } from "../../ui/basic";
import { lines, LinesField, TextField, Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { SheetImport } from "../../ui/sheet";
import { ObjectHistory } from "../../ui/history";
import { Guard, useUnsaved } from "../../ui/guard";

type Device = Schema["Device"];

const tagLines = (tags: Record<string, string>) =>
  Object.entries(tags)
    .map(([k, v]) => `${k}=${v}`)
    .sort();
const readTags = (list: string[]) =>
  Object.fromEntries(lines(list).map((l) => [l.split("=")[0].trim(), l.split("=").slice(1).join("=").trim()]));

export function DevicesPage() {
  const [params, setParams] = useSearchParams();
  const q = params.get("q") ?? "";
  const late = useDebounced(q);
  const go = useNavigate();
  const [importing, setImporting] = useState(false);
  const list = useQuery({
    queryKey: ["devices", late],
    queryFn: () => call<Schema["PageDevice"]>("GET", `/devices?limit=500&q=${encodeURIComponent(late)}`),
    placeholderData: (b) => b,
  });
  return (
    <>
      <PageHead title="Devices" lead="known by MAC address; changes take effect at once">
        <input
          aria-label="Search devices"
          placeholder="Address, name, owner, tag"
          className="field w-64"
          value={q}
          onChange={(e) => setParams(e.target.value ? { q: e.target.value } : {}, { replace: true })}
        />
        <Button onClick={() => setImporting(true)}>Import CSV</Button>
        <ButtonLink primary to="/devices/new">
          Add device
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      <Strangers />
      <h2 className="mt-4 mb-1.5">Known devices</h2>
      {list.data?.items.length === 0 ? (
        <Empty title={q ? "No matching device" : "No known device"}>
          Printers, cameras and door locks identify themselves by MAC address only. Add them one by one, by prefix, or
          from a file.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Address or prefix</th>
              <th>Name</th>
              <th>Owner</th>
              <th>Tags</th>
              <th>State</th>
              <th>Changed</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((d) => (
              <tr key={d.id} {...rowKeys(() => go(`/devices/${d.id}`))}>
                <td className="mono font-semibold">{d.match}</td>
                <td>{d.name}</td>
                <td>{d.owner}</td>
                <td className="mono">{tagLines(d.tags).join(" ")}</td>
                <td>
                  <State d={d} />
                </td>
                <td className="text-soft">
                  <When at={d.changedAt} long /> by {d.changedBy}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Modal wide open={importing} onClose={() => setImporting(false)} title="Import known devices from CSV">
        {importing && (
          <SheetImport
            path="/device-import"
            named="Address"
            hint={
              <>
                The first line names the columns: <code>mac,name,owner,tags,expires,note</code>; only mac is needed.
                Tags are written <code>kind=printer;floor=2</code>.
              </>
            }
          />
        )}
      </Modal>
    </>
  );
}

function State({ d }: { d: Device }) {
  if (!d.enabled) return <Verdict kind="out">off</Verdict>;
  if (d.expires && new Date(d.expires) < new Date()) return <Verdict kind="out">expired</Verdict>;
  return <Verdict kind="in">{d.expires ? `until ${d.expires.slice(0, 10)}` : "known"}</Verdict>;
}

/** Addresses that were refused lately, each added with one click. */
function Strangers() {
  const queries = useQueryClient();
  const list = useQuery({
    queryKey: ["unknown-devices"],
    queryFn: () => call<Schema["PageUnknownDevice"]>("GET", "/unknown-devices"),
    refetchInterval: 3000,
  });
  const add = useMutation({
    mutationFn: (mac: string) => call<Device>("POST", "/devices", { match: mac, enabled: true, tags: {} }),
    onSuccess: () => queries.invalidateQueries(),
  });
  const items = list.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <section aria-label="Refused lately">
      <h2 className="mb-1.5">Recently refused unknown devices</h2>
      <Failure error={add.error} />
      <table className="grid-table">
        <thead>
          <tr>
            <th>Address</th>
            <th>Client</th>
            <th>Where</th>
            <th>Refused</th>
            <th>Last</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {items.slice(0, 10).map((u) => (
            <tr key={u.mac}>
              <td className="mono font-semibold">{u.mac}</td>
              <td className="mono">{u.client}</td>
              <td>{u.place}</td>
              <td>{u.count} times</td>
              <td className="text-soft">{ago(u.last)}</td>
              <td className="text-right">
                <Button disabled={add.isPending} aria-label={`Add ${u.mac}`} onClick={() => add.mutate(u.mac)}>
                  Add
                </Button>{" "}
                <ButtonLink to={`/devices/new?match=${u.mac}`}>Add with details</ButtonLink>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {items.length > 10 && <div className="mt-1 text-soft">and {items.length - 10} more</div>}
    </section>
  );
}

export function DevicePage() {
  const { id = "" } = useParams();
  const one = useQuery({
    queryKey: ["devices", "one", id],
    queryFn: () => call<Device>("GET", `/devices/${id}`),
    enabled: id !== "new",
  });
  if (id === "new") return <DeviceForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Device" />
        <Failure error={one.error} />
      </>
    );
  return <DeviceForm key={one.data.tag} device={one.data} />;
}

function DeviceForm({ device: d }: { device?: Device }) {
  const queries = useQueryClient();
  const go = useNavigate();
  const [params] = useSearchParams();
  const [form, setForm] = useState({
    match: d?.match ?? params.get("match") ?? "",
    name: d?.name ?? "",
    owner: d?.owner ?? "",
    tags: tagLines(d?.tags ?? {}),
    note: d?.note ?? "",
    enabled: d?.enabled ?? true,
    expires: d?.expires?.slice(0, 10) ?? "",
  });
  const [asking, setAsking] = useState(false);
  const unsaved = useUnsaved(() => form);
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const done = () => {
    unsaved.saved();
    queries.invalidateQueries();
    go("/devices");
  };
  const save = useMutation({
    mutationFn: () => {
      const body = {
        ...form,
        tags: readTags(form.tags),
        expires: form.expires ? new Date(form.expires + "T00:00:00Z").toISOString() : undefined,
      };
      return d ? call("PUT", `/devices/${d.id}`, body, { "If-Match": d.tag }) : call("POST", "/devices", body);
    },
    onSuccess: done,
  });
  const remove = useMutation({ mutationFn: () => call("DELETE", `/devices/${d!.id}`), onSuccess: done });
  return (
    <div className="max-w-[560px]">
      <Trail to="/devices" of="Devices">
        {d?.match ?? "new"}
      </Trail>
      <PageHead title={d?.name || "Add device"} lead={d && <State d={d} />}>
        {d && <ButtonLink to={`/attempts?q=${d.match.replace("-*", "")}`}>Its attempts</ButtonLink>}
      </PageHead>
      <form
        {...unsaved.form}
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Guard of={unsaved} />
        <div className="mb-3">
          <Failure error={save.error ?? remove.error} />
        </div>
        <TextField
          label="MAC address or prefix"
          field="match"
          mono
          hint="In any notation. A prefix ends with a star: 02-00-5E-*. The longest match wins."
          value={form.match}
          onChange={(match) => set({ match })}
          error={save.error}
        />
        <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={save.error} />
        <TextField
          label="Owner"
          field="owner"
          hint="In conditions as device.owner."
          value={form.owner}
          onChange={(owner) => set({ owner })}
          error={save.error}
        />
        <LinesField
          label="Tags"
          field="tags"
          hint="One per line, such as kind=printer; used in conditions as device.kind."
          value={form.tags}
          onChange={(tags) => set({ tags })}
          error={save.error}
        />
        <TextField
          label="Expires"
          field="expires"
          type="date"
          hint="From the start of this day, UTC. Leave empty for never."
          value={form.expires}
          onChange={(expires) => set({ expires })}
          error={save.error}
        />
        <TextField label="Note" field="note" value={form.note} onChange={(note) => set({ note })} error={save.error} />
        <Tick label="Switched on" checked={form.enabled} onChange={(enabled) => set({ enabled })} />
        <div className="flex gap-2 border-t border-hair pt-3">
          <Button primary type="submit" needs="assist" disabled={save.isPending}>
            {d ? "Save" : "Add"}
          </Button>
          {d && (
            <Button danger needs="assist" className="ml-auto" onClick={() => setAsking(true)}>
              Remove
            </Button>
          )}
        </div>
      </form>
      {d && <ObjectHistory kind="device" object={d.id} />}
      <Modal open={asking} onClose={() => setAsking(false)} title={`Remove device ${d?.name}?`}>
        <p className="mb-4">It is removed at once and refused from now on.</p>
        <div className="flex gap-2">
          <Button danger onClick={() => remove.mutate()}>
            Remove
          </Button>
          <Button onClick={() => setAsking(false)}>Keep</Button>
        </div>
      </Modal>
    </div>
  );
}
