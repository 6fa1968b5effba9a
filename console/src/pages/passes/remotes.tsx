import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { ButtonLink, Empty, Failure, PageHead, rowKeys, Verdict } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { LinesField, lines, Pick, TextField, Tick } from "../../ui/form";

type Remote = Schema["Remote"];

export function RemotesPage() {
  const list = useObjects("remotes", "", 5_000);
  const go = useNavigate();
  return (
    <>
      <PageHead title="Remote servers" lead="other RADIUS servers, which lanes forward to">
        <ButtonLink primary to="/remotes/new">
          Add remote server
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No remote server">
          Everything is decided here. If a partner's people use this network, their own server can decide about them:
          add it, and select it in a lane.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Address</th>
              <th>Tries</th>
              <th>State</th>
              <th>Lanes</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((r) => (
              <tr key={r.id} {...rowKeys(() => go(`/remotes/${r.id}`))}>
                <td className="font-semibold">{r.name}</td>
                <td className="mono">{r.address}</td>
                <td>
                  {r.tries} of {r.timeoutMillis} ms
                </td>
                <td>{r.silent ? <Verdict kind="out">silent lately</Verdict> : ""}</td>
                <td>{r.usedBy.join(", ") || <span className="text-soft">no lane forwards to it</span>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function RemotePage() {
  const { id = "" } = useParams();
  const one = useObject("remotes", id);
  if (id === "new") return <RemoteForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Remote server" />
        <Failure error={one.error} />
      </>
    );
  return <RemoteForm key={one.data.id} remote={one.data} />;
}

function RemoteForm({ remote: r }: { remote?: Remote }) {
  const [form, setForm] = useState({
    name: r?.name ?? "",
    address: r?.address ?? "",
    secret: "",
    timeoutMillis: r?.timeoutMillis ?? 2000,
    tries: r?.tries ?? 2,
    unsigned: r?.unsigned ?? false,
    grants: r?.grants ?? [],
    pass: r?.pass ?? "",
    note: r?.note ?? "",
  });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const passes = useObjects("passes", "", 5_000).data?.items ?? [];
  const body = () => ({ ...form, grants: lines(form.grants), secret: form.secret || undefined });
  return (
    <div className="max-w-[640px]">
      <div className="text-[13px] text-soft">
        <Link to="/remotes" className="hover:underline">
          Remote servers
        </Link>{" "}
        / {r?.name ?? "new"}
      </div>
      <PageHead
        title={r?.name ?? "Add remote server"}
        lead={r && (r.usedBy.length ? `lanes ${r.usedBy.join(", ")} forward to it` : "no lane forwards to it yet")}
      />
      {r && <Problems list={r.problems} />}
      <Editor kind="remotes" noun="remote server" object={r} body={body} onSaved={() => set({ secret: "" })}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <TextField
              label="Address"
              field="address"
              mono
              hint="Add the port unless it is 1812."
              value={form.address}
              onChange={(address) => set({ address })}
              error={error}
            />
            <TextField
              label="Shared secret"
              field="secret"
              type="password"
              hint={
                r?.secretSet ? "A secret is set; leave empty to keep it." : "The secret that it has for this server."
              }
              value={form.secret}
              onChange={(secret) => set({ secret })}
              error={error}
              autoComplete="new-password"
            />
            <div className="grid grid-cols-2 gap-3">
              <TextField
                label="Time-out per try (ms)"
                field="timeoutMillis"
                type="number"
                value={String(form.timeoutMillis)}
                onChange={(v) => set({ timeoutMillis: Number(v) })}
                error={error}
              />
              <TextField
                label="Tries"
                field="tries"
                type="number"
                value={String(form.tries)}
                onChange={(v) => set({ tries: Number(v) })}
                error={error}
              />
            </div>
            <LinesField
              label="Attributes it may grant"
              field="grants"
              hint="One per line, such as Tunnel-Private-Group-ID; * for all. Others are removed from its answers, except time-outs and messages."
              value={form.grants}
              onChange={(grants) => set({ grants })}
              error={error}
              rows={2}
            />
            <Pick
              label="Pass that overrides its answers"
              field="pass"
              value={form.pass}
              onChange={(pass) => set({ pass })}
              error={error}
              options={[{ value: "", label: "none" }, ...passes.map((p) => ({ value: p.name, label: p.name }))]}
            />
            <Tick
              label="Accept answers without Message-Authenticator, which can be forged"
              checked={form.unsigned}
              onChange={(unsigned) => set({ unsigned })}
            />
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
    </div>
  );
}
