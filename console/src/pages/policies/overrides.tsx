import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, PageHead, PassChip, rowKeys, Trail, When } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { TextField } from "../../ui/form";
import { NewPass } from "../../ui/missing";
import { Pick } from "../../ui/pick";
import { MomentField } from "../../ui/moment";

type Override = Schema["Override"];
const set = (at?: string): string | undefined => (at && !at.startsWith("0001") ? at : undefined);

export function OverridesPage() {
  const list = useObjects("overrides");
  const go = useNavigate();
  return (
    <>
      <PageHead title="Overrides" lead="people who get a different pass than their policy grants">
        <ButtonLink primary to="/overrides/new">
          Add override
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No override">
          Policies alone decide, as they should. Use an override for one person who needs something else for a while.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Person</th>
              <th>Where</th>
              <th>Gets</th>
              <th>Until</th>
              <th>Owner</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((o) => (
              <tr key={o.id} {...rowKeys(() => go(`/overrides/${o.id}`))}>
                <td className="font-semibold">{o.name}</td>
                <td className="mono">
                  {o.person}
                  {o.store && <span className="text-soft"> in {o.store}</span>}
                </td>
                <td>{o.lane || "every lane"}</td>
                <td>
                  <PassChip name={o.pass} />
                </td>
                <td>
                  {o.until && set(o.until) ? (
                    <>
                      {o.over && <b className="text-out">over since </b>}
                      <When at={o.until} long />
                    </>
                  ) : (
                    "no end"
                  )}
                </td>
                <td>{o.owner}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function OverridePage() {
  const { id = "" } = useParams();
  const one = useObject("overrides", id);
  if (id === "new") return <OverrideForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Override" />
        <Failure error={one.error} />
      </>
    );
  return <OverrideForm key={one.data.id} override={one.data} />;
}

function OverrideForm({ override: o }: { override?: Override }) {
  const passes = useObjects("passes");
  const lanes = useObjects("lanes");
  const directories = useObjects("directories");
  const [form, setForm] = useState({
    name: o?.name ?? "",
    person: o?.person ?? "",
    store: o?.store ?? "",
    lane: o?.lane ?? "",
    pass: o?.pass ?? "",
    until: set(o?.until),
    owner: o?.owner ?? "",
    note: o?.note ?? "",
  });
  const edit = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const named = (list?: { name: string }[]) => list?.map((x) => ({ value: x.name, label: x.name })) ?? [];
  return (
    <div className="max-w-[640px]">
      <Trail to="/overrides" of="Overrides">
        {o?.name ?? "new"}
      </Trail>
      <PageHead title={o?.name ?? "Add override"} />
      {o && <Problems list={o.problems} />}
      <Editor kind="overrides" noun="override" object={o} body={() => form}>
        {(error) => (
          <>
            <TextField
              label="Name"
              field="name"
              hint="What it is for."
              value={form.name}
              onChange={(name) => edit({ name })}
              error={error}
            />
            <TextField
              label="Person"
              field="person"
              mono
              hint="The name in the directory, without the realm."
              value={form.person}
              onChange={(person) => edit({ person })}
              error={error}
            />
            <Pick
              label="As found in"
              field="store"
              value={form.store}
              onChange={(store) => edit({ store })}
              error={error}
              options={[
                { value: "", label: "any store" },
                { value: "local", label: "local accounts" },
                ...named(directories.data?.items),
              ]}
            />
            <Pick
              label="In lane"
              search="lanes"
              field="lane"
              value={form.lane}
              onChange={(lane) => edit({ lane })}
              error={error}
              options={[{ value: "", label: "every lane" }, ...named(lanes.data?.items)]}
            />
            <Pick
              label="Gets the pass"
              search="passes"
              field="pass"
              value={form.pass}
              onChange={(pass) => edit({ pass })}
              error={error}
              options={[{ value: "", label: "choose a pass" }, ...named(passes.data?.items)]}
            />
            <NewPass made={(pass) => edit({ pass })} />
            <MomentField
              label="Until"
              field="until"
              hint="Leave empty for no end."
              value={form.until}
              onChange={(until) => edit({ until })}
              error={error}
            />
            <TextField
              label="Owner"
              field="owner"
              hint="Who is responsible for it."
              value={form.owner}
              onChange={(owner) => edit({ owner })}
              error={error}
            />
            <TextField label="Note" value={form.note} onChange={(note) => edit({ note })} />
          </>
        )}
      </Editor>
    </div>
  );
}
