import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useAbout, useObject, useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, PageHead, rowKeys, Trail, When } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { lines, LinesField, NumberField, TextField } from "../../ui/form";
import { TextFilters } from "../../ui/records";

type DeviceKind = Schema["DeviceKind"];
type Seen = Schema["SeenDevices"];

/** The rules that tell the kind of a device, and what was seen of devices. */
export function DeviceKindsPage() {
  const list = useObjects("device-kinds", "", 5_000);
  const go = useNavigate();
  return (
    <>
      <PageHead title="Device kinds" lead="what devices are taken for, as device.kind in conditions">
        <ButtonLink primary to="/device-kinds/new">
          Add rule
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No rules yet">
          Say by the beginning of the address, the DHCP fingerprint or the host name what a device is. A device can say
          anything of itself: a kind proves nothing.
        </Empty>
      ) : (
        <table className="grid-table mb-6">
          <thead>
            <tr>
              <th>Rule</th>
              <th>Kind</th>
              <th className="!text-right">Order</th>
              <th>Addresses</th>
              <th>Fingerprints and vendor classes</th>
              <th>Hosts</th>
              <th className="!text-right">Devices</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((o) => (
              <tr key={o.id} {...rowKeys(() => go(`/device-kinds/${o.id}`))}>
                <td className="font-semibold">{o.name}</td>
                <td>{o.kind}</td>
                <td className="text-right">{o.order}</td>
                <td className="mono">{some(o.macs)}</td>
                <td className="mono">{some([...o.fingerprints, ...o.vendorClasses])}</td>
                <td className="mono">{some(o.hosts)}</td>
                <td className="text-right">{o.devices.toLocaleString()}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <SeenDevices />
    </>
  );
}

const some = (list: string[]) => list.slice(0, 3).join("; ") + (list.length > 3 ? ` and ${list.length - 3} more` : "");

function SeenDevices() {
  const [params, setParams] = useSearchParams();
  const query = new URLSearchParams({ limit: "200" });
  for (const key of ["q", "kind"]) if (params.get(key)) query.set(key, params.get(key)!);
  const seen = useQuery({
    queryKey: ["seen-devices", query.toString()],
    queryFn: () => call<Seen>("GET", `/presence/devices?${query}`),
    refetchInterval: 5_000,
    placeholderData: keepPreviousData,
  });
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(key, value);
    else next.delete(key);
    setParams(next, { replace: true });
  };
  return (
    <>
      <h2 className="mb-1">Devices that were seen</h2>
      <p className="hint mb-2">
        By copies of DHCP messages and by other sources, also of devices that scopes leave out.{" "}
        {seen.data && seen.data.found > seen.data.items.length && `The latest ${seen.data.items.length} are shown.`}
      </p>
      <div className="mb-3 grid grid-cols-3 gap-2">
        <TextFilters of={{ params, set }} texts={{ q: "Address, host, fingerprint or vendor class" }} />
        <select
          aria-label="Kind"
          value={params.get("kind") ?? ""}
          onChange={(e) => set("kind", e.target.value)}
          className="field text-[13px]"
        >
          <option value="">Any kind</option>
          {seen.data?.kinds.map((k) => (
            <option key={k.kind} value={k.kind || "none"}>
              {k.kind || "no rule fits"} ({k.count.toLocaleString()})
            </option>
          ))}
        </select>
      </div>
      <Failure error={seen.error} />
      {seen.data?.items.length === 0 ? (
        <Empty title={seen.data.total ? "None of them fits" : "Nothing was seen of any device"}>
          Have a relay send copies of DHCP messages to a source.
        </Empty>
      ) : (
        <SeenTable items={seen.data?.items ?? []} />
      )}
    </>
  );
}

function SeenTable({ items }: { items: Seen["items"] }) {
  return (
    <table className="grid-table">
      <thead>
        <tr>
          <th>Device</th>
          <th>Kind</th>
          <th>By rule</th>
          <th>Host</th>
          <th>Fingerprint</th>
          <th>Vendor class</th>
          <th>Seen</th>
        </tr>
      </thead>
      <tbody>
        {items.map((d) => (
          <tr key={d.mac}>
            <td className="mono whitespace-nowrap">{d.mac}</td>
            <td>
              {d.kind || (
                <AddLink
                  to={`/device-kinds/new?${new URLSearchParams(likeIt(d))}`}
                  label={`Add a rule from ${d.mac}`}
                />
              )}
            </td>
            <td>{d.rule}</td>
            <td className="mono [overflow-wrap:anywhere]">{d.host}</td>
            <td className="mono">{d.fingerprint?.replaceAll(",", ", ")}</td>
            <td className="mono [overflow-wrap:anywhere]">{d.vendorClass}</td>
            <td className="whitespace-nowrap">
              <When at={d.seen} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What a rule begins with that is made from a device: what tells most of it. */
const likeIt = (d: Seen["items"][number]): Record<string, string> =>
  d.fingerprint ? { fingerprint: d.fingerprint } : { mac: d.mac.slice(0, 8) };

function AddLink({ to, label }: { to: string; label: string }) {
  const may = useAbout().data?.rights?.includes("configure") ?? false;
  if (!may) return null;
  return (
    <Link to={to} aria-label={label} className="whitespace-nowrap underline">
      add rule
    </Link>
  );
}

export function DeviceKindPage() {
  const { id = "" } = useParams();
  const one = useObject("device-kinds", id);
  if (id === "new") return <KindForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Device kind" />
        <Failure error={one.error} />
      </>
    );
  return <KindForm key={one.data.id} kind={one.data} />;
}

function KindForm({ kind: o }: { kind?: DeviceKind }) {
  const [params] = useSearchParams();
  const from = (key: string) => [params.get(key)].filter((text) => text !== null);
  const [form, setForm] = useState({
    name: o?.name ?? "",
    kind: o?.kind ?? "",
    order: o?.order ?? 50,
    macs: o?.macs ?? from("mac"),
    fingerprints: o?.fingerprints ?? from("fingerprint"),
    vendorClasses: o?.vendorClasses ?? [],
    hosts: o?.hosts ?? [],
    note: o?.note ?? "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const body = () => ({
    ...form,
    macs: lines(form.macs),
    fingerprints: lines(form.fingerprints),
    vendorClasses: lines(form.vendorClasses),
    hosts: lines(form.hosts),
  });
  const list = (
    field: "macs" | "fingerprints" | "vendorClasses" | "hosts",
    label: string,
    hint: string,
    e: unknown,
  ) => (
    <LinesField
      label={label}
      field={field}
      hint={hint}
      value={form[field]}
      onChange={(v) => set({ [field]: v })}
      error={e}
    />
  );
  return (
    <div className="max-w-[760px]">
      <Trail to="/device-kinds" of="Device kinds">
        {o?.name ?? "new"}
      </Trail>
      <PageHead title={o?.name ?? "Add rule"} />
      {o && <Problems list={o.problems} />}
      <Editor kind="device-kinds" noun="rule" object={o} body={body}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <TextField
              label="Kind"
              field="kind"
              hint="What conditions see as device.kind, such as printer. The tag kind of a known device counts more."
              value={form.kind}
              onChange={(kind) => set({ kind })}
              error={error}
            />
            <NumberField
              label="Order"
              field="order"
              hint="1 decides first, up to 99. Of equal ones the rule that asks for more decides."
              value={form.order}
              onChange={(order) => set({ order })}
              error={error}
            />
            <p className="hint mb-2">Of each list that is not empty, one line has to fit.</p>
            {list("macs", "Addresses", "Beginnings of MAC addresses, such as 02-00-5e.", error)}
            {list(
              "fingerprints",
              "Fingerprints",
              "The options that the device asks a DHCP server for, in its order, such as 1,3,6,15.",
              error,
            )}
            {list("vendorClasses", "Vendor classes", "As the device tells a DHCP server, with * for anything.", error)}
            {list("hosts", "Hosts", "What the device calls itself, such as cam-*.", error)}
            <TextField label="Note" field="note" value={form.note} onChange={(note) => set({ note })} error={error} />
            <Fits body={body()} />
          </>
        )}
      </Editor>
    </div>
  );
}

/** Which of the devices that were seen the rule would fit, while it is written. */
function Fits({ body }: { body: object }) {
  const key = useDeferredValue(JSON.stringify(body));
  const fits = useQuery({
    queryKey: ["device-kind-fits", key],
    queryFn: () => call<Seen>("POST", "/device-kinds/fits", JSON.parse(key)),
    placeholderData: keepPreviousData,
    retry: false,
  });
  if (!fits.data?.total) return null;
  return (
    <section className="mb-4" aria-live="polite">
      <h2 className="mb-1">
        It fits {fits.data.found.toLocaleString()} of {fits.data.total.toLocaleString()} devices that were seen
      </h2>
      {fits.data.items.length > 0 && <SeenTable items={fits.data.items} />}
    </section>
  );
}
