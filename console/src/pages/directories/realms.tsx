import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { Button, ButtonLink, Empty, Failure, PageHead, rowKeys, Trail } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { formText, readForm } from "./forms";
import { Field, lines, LinesField, TextField } from "../../ui/form";

type Realm = Schema["Realm"];

export function RealmsPage() {
  const list = useObjects("realms");
  const go = useNavigate();
  return (
    <>
      <PageHead title="Realms" lead="name forms that belong together, and where they are looked up">
        <ButtonLink primary to="/realms/new">
          Add realm
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No realm yet">
          Without a realm nobody can be looked up. Most installations need one realm: the suffix of the mail addresses,
          the domain prefix and bare names.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Name forms</th>
              <th>Name passed to the directory</th>
              <th>Lookup order</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((r) => (
              <tr key={r.id} {...rowKeys(() => go(`/realms/${r.id}`))}>
                <td className="font-semibold">{r.name}</td>
                <td className="mono">{r.forms.map(formText).join("  ")}</td>
                <td className="mono">{r.rewrite}</td>
                <td>
                  {r.lookup
                    .map(
                      (l) =>
                        l.store +
                        { refuse: "", next: " (next if unreachable)", silent: " (no answer if unreachable)" }[
                          l.unreachable ?? "refuse"
                        ],
                    )
                    .join(", then ")}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function RealmPage() {
  const { id = "" } = useParams();
  const one = useObject("realms", id);
  if (id === "new") return <RealmForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Realm" />
        <Failure error={one.error} />
      </>
    );
  return <RealmForm key={one.data.id} realm={one.data} />;
}

function RealmForm({ realm }: { realm?: Realm }) {
  const directories = useObjects("directories");
  const [name, setName] = useState(realm?.name ?? "");
  const [forms, setForms] = useState((realm?.forms ?? []).map(formText));
  const [rewrite, setRewrite] = useState(realm?.rewrite ?? "{name}");
  const [lookup, setLookup] = useState(realm?.lookup ?? []);
  const stores = ["local", ...(directories.data?.items.map((d) => d.name) ?? [])].filter(
    (s) => !lookup.some((l) => l.store.toLowerCase() === s.toLowerCase()),
  );
  const body = () => ({ name, forms: lines(forms).map(readForm), rewrite, lookup, note: realm?.note ?? "" });
  const move = (i: number, by: number) => {
    const next = [...lookup];
    const [step] = next.splice(i, 1);
    next.splice(i + by, 0, step);
    setLookup(next);
  };
  return (
    <div className="max-w-[640px]">
      <Trail to="/realms" of="Realms">
        {realm?.name ?? "new"}
      </Trail>
      <PageHead title={realm?.name ?? "Add realm"} />
      {realm && <Problems list={realm.problems} />}
      <Editor kind="realms" noun="realm" object={realm} body={body}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={name} onChange={setName} error={error} />
            <LinesField
              label="Name forms"
              field="forms"
              rows={3}
              hint={
                <>
                  One per line: <code>@example.org</code>, <code>SHORT\</code>, or <code>bare</code>.
                </>
              }
              value={forms}
              onChange={setForms}
              error={error}
            />
            <TextField
              label="Name passed to the directory"
              field="rewrite"
              mono
              hint="{name} is the part without the realm, {sent} the name as sent."
              value={rewrite}
              onChange={setRewrite}
              error={error}
            />
            <Field label="Lookup order" name="lookup" error={error} hint="The first store that knows the name decides.">
              {(p) => (
                <div id={p.id} className="rounded border border-hair bg-sheet">
                  {lookup.map((l, i) => (
                    <div key={l.store} className="flex items-center gap-2 border-b border-hair px-2 py-1">
                      <span className="w-5 text-soft">{i + 1}</span>
                      <b className="w-36">{l.store}</b>
                      <select
                        aria-label={`If ${l.store} is unreachable`}
                        className="field w-52 py-0.5 text-[13px]"
                        value={l.unreachable}
                        onChange={(e) =>
                          setLookup(
                            lookup.map((x, j) =>
                              j === i ? { ...x, unreachable: e.target.value as "refuse" | "next" | "silent" } : x,
                            ),
                          )
                        }
                      >
                        <option value="refuse">unreachable: refuse</option>
                        <option value="next">unreachable: try the next</option>
                        <option value="silent">unreachable: do not answer</option>
                      </select>
                      <span className="ml-auto flex gap-1">
                        <Button disabled={i === 0} aria-label={`Move ${l.store} up`} onClick={() => move(i, -1)}>
                          ↑
                        </Button>
                        <Button
                          disabled={i === lookup.length - 1}
                          aria-label={`Move ${l.store} down`}
                          onClick={() => move(i, 1)}
                        >
                          ↓
                        </Button>
                        <Button
                          aria-label={`Remove ${l.store}`}
                          onClick={() => setLookup(lookup.filter((_, j) => j !== i))}
                        >
                          Remove
                        </Button>
                      </span>
                    </div>
                  ))}
                  <div className="flex flex-wrap gap-1 p-2">
                    {stores.map((s) => (
                      <Button key={s} onClick={() => setLookup([...lookup, { store: s, unreachable: "refuse" }])}>
                        Add {s}
                      </Button>
                    ))}
                  </div>
                </div>
              )}
            </Field>
          </>
        )}
      </Editor>
    </div>
  );
}
