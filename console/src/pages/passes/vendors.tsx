import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, type Schema } from "../../api/client";
import { sendFile, type Comparison } from "../../api/file";
import { useObject, useObjects, useQueryText } from "../../api/hooks";
import { Changes } from "../../ui/changes";
import { Button, ButtonLink, Empty, Failure, PageHead, rowKeys, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, TextField } from "../../ui/form";
import { Modal } from "../../ui/modal";

type Vendor = Schema["Vendor"];
type Attribute = Schema["ConfigVendorAttribute"];

const types = ["text", "octets", "integer", "integer64", "ipv4addr", "ipv6addr", "ipv6prefix", "ifid", "time"];

/** The dictionary: vendors, which can be edited, and the standard attributes. */
export function DictionaryPage() {
  const list = useObjects("vendors");
  const go = useNavigate();
  const dictionary = useQuery({ queryKey: ["dictionary"], queryFn: async () => (await api.GET("/dictionary")).data! });
  const [q, setQ] = useQueryText();
  const shown =
    dictionary.data?.items.filter((d) => `${d.place} ${d.name} ${d.vendor}`.toLowerCase().includes(q.toLowerCase())) ??
    [];
  return (
    <>
      <PageHead title="Dictionary" lead="standard and vendor-specific attributes">
        <ImportVendors />
        <ButtonLink primary to="/vendors/new">
          Add vendor
        </ButtonLink>
      </PageHead>
      <Failure error={list.error ?? dictionary.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No vendor yet">
          The standard attributes are built in. Add a vendor if a device needs vendor-specific attributes.
        </Empty>
      ) : (
        <table className="grid-table mb-5">
          <thead>
            <tr>
              <th>Vendor</th>
              <th>Number</th>
              <th>Attributes</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((v) => (
              <tr key={v.id} {...rowKeys(() => go(`/vendors/${v.id}`))}>
                <td className="font-semibold">{v.name}</td>
                <td className="mono">{v.number}</td>
                <td className="mono">{v.attributes.map((a) => `${a.number} ${a.name}`).join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="mb-1 flex items-baseline gap-3">
        <h2>All attributes</h2>
        <input
          aria-label="Search attributes"
          className="field w-64 py-0.5"
          placeholder="name or number"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <span className="text-soft">{shown.length}</span>
      </div>
      <table className="grid-table">
        <thead>
          <tr>
            <th className="w-28">Number</th>
            <th>Name</th>
            <th>Type</th>
            <th>Vendor</th>
            <th>In a pass</th>
            <th>Named values</th>
          </tr>
        </thead>
        <tbody>
          {shown.slice(0, 300).map((d) => (
            <tr key={d.name}>
              <td className="mono">{d.place}</td>
              <td className="mono">{d.name}</td>
              <td>{d.data}</td>
              <td>{d.vendor}</td>
              <td>{d.reply ? "yes" : ""}</td>
              <td className="text-[12px] text-soft">
                {d.values.slice(0, 8).join(", ")}
                {d.values.length > 8 && ` and ${d.values.length - 8} more`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function ImportVendors() {
  const queries = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const [text, setText] = useState("");
  const compare = useMutation({ mutationFn: (t: string) => sendFile<Comparison>("/file/compare", t) });
  const apply = useMutation({
    mutationFn: () => sendFile("/file/apply?mark=" + encodeURIComponent(compare.data!.mark), text),
    onSuccess: () => {
      setText("");
      queries.invalidateQueries();
    },
  });
  const other = compare.data && compare.data.lists.join() !== "vendors";
  return (
    <>
      <input
        ref={input}
        type="file"
        accept=".yaml,.yml"
        aria-label="Dictionary file"
        className="hidden"
        onChange={async (e) => {
          const t = await e.target.files?.[0]?.text();
          e.target.value = "";
          if (t) {
            setText(t);
            apply.reset();
            compare.mutate(t);
          }
        }}
      />
      <Button onClick={() => input.current?.click()}>Import file ...</Button>
      <Modal wide open={text !== ""} onClose={() => setText("")} title="Import vendors">
        <Failure error={compare.error ?? apply.error} />
        {other && (
          <p className="mb-2 text-out">
            The file holds {compare.data!.lists.join(", ")}, and not vendors alone. Apply it under History.
          </p>
        )}
        {compare.data && !other && (
          <>
            <p className="mb-2">This would change the draft as follows:</p>
            <Changes list={compare.data.changes} />
            <Problems list={compare.data.problems.filter((p) => !p.warning)} />
            <div className="mt-3 flex gap-2">
              <Button
                primary
                disabled={apply.isPending || compare.data.changes.length === 0}
                onClick={() => apply.mutate()}
              >
                Put into the draft
              </Button>
              <Button onClick={() => setText("")}>Cancel</Button>
            </div>
          </>
        )}
      </Modal>
    </>
  );
}

export function VendorPage() {
  const { id = "" } = useParams();
  const one = useObject("vendors", id);
  if (id === "new") return <VendorForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Vendor" />
        <Failure error={one.error} />
      </>
    );
  return <VendorForm key={one.data.id} vendor={one.data} />;
}

const valuesText = (a: Attribute) => (a.values ?? []).map((v) => `${v.number}=${v.name}`).join(", ");
const readValues = (text: string) =>
  text
    .split(",")
    .map((t) => t.trim())
    .filter(Boolean)
    .map((t) => ({ number: Number(t.split("=")[0]) || 0, name: t.split("=").slice(1).join("=") }));

function VendorForm({ vendor }: { vendor?: Vendor }) {
  const [form, setForm] = useState({
    name: vendor?.name ?? "",
    number: vendor?.number ?? 0,
    typeOctets: vendor?.typeOctets ?? 1,
    lengthOctets: vendor?.lengthOctets ?? 1,
    note: vendor?.note ?? "",
  });
  const [rows, setRows] = useState((vendor?.attributes ?? []).map((a) => ({ ...a, text: valuesText(a) })));
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const row = (i: number, patch: Partial<(typeof rows)[0]>) =>
    setRows(rows.map((r, j) => (j === i ? { ...r, ...patch } : r)));
  const body = () => ({ ...form, attributes: rows.map(({ text, ...a }) => ({ ...a, values: readValues(text) })) });
  return (
    <div className="max-w-[940px]">
      <Trail to="/vendors" of="Dictionary">
        {vendor?.name ?? "new"}
      </Trail>
      <PageHead
        title={vendor?.name ?? "Add vendor"}
        lead={
          vendor && (
            <>
              number <b className="mono">{vendor.number}</b>, on the wire{" "}
              <span className="mono">{vendor.number.toString(16).toUpperCase().padStart(8, "0")}</span>
            </>
          )
        }
      />
      {vendor && <Problems list={vendor.problems} />}
      <Editor kind="vendors" noun="vendor" object={vendor} body={body}>
        {(error) => (
          <>
            <div className="grid grid-cols-2 gap-3">
              <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
              <TextField
                label="Enterprise number"
                field="number"
                type="number"
                min={1}
                hint="Assigned by IANA; devices use the number, not the name."
                value={String(form.number || "")}
                onChange={(v) => set({ number: Number(v) })}
                error={error}
              />
            </div>
            <div className="grid grid-cols-2 gap-3">
              <TextField
                label="Octets of each type"
                field="typeOctets"
                type="number"
                hint="1 for nearly every vendor; 2 or 4 for a few."
                value={String(form.typeOctets)}
                onChange={(v) => set({ typeOctets: Number(v) })}
                error={error}
              />
              <TextField
                label="Octets of each length"
                field="lengthOctets"
                type="number"
                hint="1 for nearly every vendor; 0 or 2 for a few."
                value={String(form.lengthOctets)}
                onChange={(v) => set({ lengthOctets: Number(v) })}
                error={error}
              />
            </div>
            <Field
              label="Attributes"
              name="attributes"
              error={error}
              hint="Named values of integers as 1=guest, 7=staff. A rate says what one stands for: 0 is bit/s, 1 kbit/s, 1000 Mbit/s."
            >
              {(p) => (
                <div id={p.id}>
                  {rows.map((a, i) => (
                    <div key={i} className="mb-1 grid gap-1 md:grid-cols-[70px_1.4fr_110px_1.4fr_120px_70px_auto]">
                      <input
                        aria-label={`Number ${i + 1}`}
                        type="number"
                        className="field mono"
                        value={a.number}
                        onChange={(e) => row(i, { number: Number(e.target.value) })}
                      />
                      <input
                        aria-label={`Name ${i + 1}`}
                        className="field mono"
                        value={a.name}
                        onChange={(e) => row(i, { name: e.target.value })}
                        placeholder="Role"
                      />
                      <select
                        aria-label={`Type ${i + 1}`}
                        className="field"
                        value={a.type}
                        onChange={(e) => row(i, { type: e.target.value })}
                      >
                        {types.map((t) => (
                          <option key={t}>{t}</option>
                        ))}
                      </select>
                      <input
                        aria-label={`Values ${i + 1}`}
                        className="field mono"
                        value={a.text}
                        onChange={(e) => row(i, { text: e.target.value })}
                        placeholder={a.type === "integer" ? "1=guest, 7=staff" : ""}
                      />
                      <select
                        aria-label={`Meaning ${i + 1}`}
                        className="field"
                        value={a.means ?? ""}
                        onChange={(e) => row(i, { means: e.target.value as Attribute["means"] })}
                      >
                        <option value="">no meaning</option>
                        <option value="rate-down">rate down</option>
                        <option value="rate-up">rate up</option>
                      </select>
                      <input
                        aria-label={`Unit ${i + 1}`}
                        type="number"
                        className="field mono"
                        disabled={!a.means}
                        value={a.unit ?? 0}
                        onChange={(e) => row(i, { unit: Number(e.target.value) })}
                      />
                      <Button
                        aria-label={`Remove attribute ${i + 1}`}
                        onClick={() => setRows(rows.filter((_, j) => j !== i))}
                      >
                        ×
                      </Button>
                    </div>
                  ))}
                  <Button
                    onClick={() =>
                      setRows([...rows, { number: rows.length + 1, name: "", type: "text", values: [], text: "" }])
                    }
                  >
                    Add attribute
                  </Button>
                </div>
              )}
            </Field>
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
      {vendor && vendor.forms.length > 0 && (
        <section aria-label="On the wire" className="mt-5">
          <h2 className="mb-1">As sent on the wire</h2>
          <p className="mb-1 text-soft">
            As saved, with an example value: type 26, length, number of the vendor, its type and length, value.
          </p>
          <table className="grid-table">
            <tbody>
              {vendor.forms.map((f) => (
                <tr key={f.name}>
                  <td className="mono w-40">{f.place}</td>
                  <td className="mono">
                    {f.name} = {f.value}
                  </td>
                  <td className="mono text-soft">{f.hex}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </div>
  );
}
