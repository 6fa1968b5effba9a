import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { useMay } from "../../api/rights";
import { Button, Failure } from "../../ui/basic";
import { Guard, useUnsaved } from "../../ui/guard";
import { TextField, Tick } from "../../ui/form";
import { roleNames, type Role } from "./roles";

type Settings = Schema["OperatorSettings"];
type Provider = Schema["Provider"];

/** How operators sign in, and what needs two of them. */
export function OperatorSettings() {
  const settings = useQuery({
    queryKey: ["operator-settings"],
    queryFn: async () => (await api.GET("/operator-settings")).data!,
  });
  const [saved, setSaved] = useState("");
  if (!settings.data) return <Failure error={settings.error} />;
  const { tag = "" } = settings.data;
  return <Form key={tag} of={settings.data} saved={saved === tag} onSaved={setSaved} />;
}

const empty: Provider = {
  issuer: "",
  clientId: "",
  label: "",
  console: location.origin,
  nameClaim: "preferred_username",
  groupsClaim: "groups",
  scopes: [],
  groups: [],
};

function Form({ of, saved, onSaved }: { of: Settings; saved: boolean; onSaved: (tag: string) => void }) {
  const queries = useQueryClient();
  const own = useMay("own");
  const [form, setForm] = useState(of);
  const [secret, setSecret] = useState("");
  const set = (patch: Partial<Settings>) => setForm({ ...form, ...patch });
  const provider = form.provider;
  const setProvider = (patch: Partial<Provider>) => set({ provider: { ...(provider ?? empty), ...patch } });
  const unsaved = useUnsaved(() => [form, secret]);
  const save = useMutation({
    mutationFn: () =>
      api.PUT("/operator-settings", {
        params: { header: { "If-Match": of.tag! } },
        body: { ...form, provider: provider && { ...provider, secret: secret || undefined } },
      }),
    onSuccess: (out) => {
      unsaved.saved();
      onSaved(out.data?.tag ?? "");
      queries.invalidateQueries();
    },
  });
  const directories = useObjects("directories");
  const toggle = (role: Role, on: boolean) =>
    set({ secondFactor: on ? [...form.secondFactor, role] : form.secondFactor.filter((r) => r !== role) });
  return (
    <form
      {...unsaved.form}
      className="mt-6"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Guard of={unsaved} />
      <h2 className="mb-1.5">How operators sign in</h2>
      <Failure error={save.error} />
      <fieldset disabled={!own} className="grid grid-cols-2 gap-x-8" title={own ? "" : "Only an owner changes this."}>
        <div>
          <div className="label">These roles need a second factor</div>
          <div className="mb-3 flex flex-wrap gap-x-4">
            {roleNames.map((role) => (
              <Tick
                key={role}
                label={role}
                checked={form.secondFactor.includes(role)}
                onChange={(on) => toggle(role, on)}
              />
            ))}
          </div>
          <div className="flex flex-wrap gap-3">
            <TextField
              label="Ends unused after minutes"
              field="idleMinutes"
              type="number"
              value={String(form.idleMinutes)}
              onChange={(v) => set({ idleMinutes: Number(v) })}
              error={save.error}
            />
            <TextField
              label="Ends anyway after hours"
              field="lastHours"
              type="number"
              value={String(form.lastHours)}
              onChange={(v) => set({ lastHours: Number(v) })}
              error={save.error}
            />
          </div>
          <Tick
            label="A second engineer agrees to what touches lanes, passes, overrides or command lists"
            checked={form.fourEyes}
            onChange={(fourEyes) => set({ fourEyes })}
          />
        </div>
        <div>
          <div className="label">Groups of directories whose members are operators</div>
          <Groups
            list={form.groups}
            directories={directories.data?.items.map((d) => d.name) ?? []}
            set={(groups) => set({ groups })}
          />
        </div>
      </fieldset>
      <fieldset disabled={!own} className="mt-4">
        {!provider ? (
          <Button needs="own" onClick={() => setProvider({})}>
            Sign in by an identity provider ...
          </Button>
        ) : (
          <>
            <div className="mb-2 flex flex-wrap items-baseline gap-3">
              <h3 className="font-semibold">Identity provider (OpenID Connect)</h3>
              {own && (
                <button
                  type="button"
                  className="text-[12px] text-soft underline"
                  onClick={() => set({ provider: undefined })}
                >
                  none
                </button>
              )}
            </div>
            <div className="grid grid-cols-2 gap-x-8">
              <div>
                <TextField
                  label="Issuer"
                  field="provider.issuer"
                  mono
                  value={provider.issuer}
                  onChange={(issuer) => setProvider({ issuer })}
                  error={save.error}
                  placeholder="https://sign-on.example"
                />
                <TextField
                  label="Client identifier"
                  field="provider.clientId"
                  mono
                  value={provider.clientId}
                  onChange={(clientId) => setProvider({ clientId })}
                  error={save.error}
                />
                <TextField
                  label="Client secret"
                  field="provider.secret"
                  type="password"
                  autoComplete="off"
                  hint={provider.secretSet ? "One is set; leave this empty to keep it." : undefined}
                  value={secret}
                  onChange={setSecret}
                  error={save.error}
                />
              </div>
              <div>
                <TextField
                  label="Address of this console"
                  field="provider.console"
                  mono
                  hint={`Enter at the provider as redirect address: ${provider.console}/api/v1/sign-in/provider/back`}
                  value={provider.console}
                  onChange={(console) => setProvider({ console })}
                  error={save.error}
                />
                <TextField
                  label="On the button"
                  field="provider.label"
                  value={provider.label ?? ""}
                  onChange={(label) => setProvider({ label })}
                  error={save.error}
                />
                <div className="flex flex-wrap gap-3">
                  <TextField
                    label="Claim with the name"
                    field="provider.nameClaim"
                    mono
                    value={provider.nameClaim ?? ""}
                    onChange={(nameClaim) => setProvider({ nameClaim })}
                    error={save.error}
                  />
                  <TextField
                    label="Claim with the groups"
                    field="provider.groupsClaim"
                    mono
                    value={provider.groupsClaim ?? ""}
                    onChange={(groupsClaim) => setProvider({ groupsClaim })}
                    error={save.error}
                  />
                </div>
                <TextField
                  label="Scopes beside openid"
                  field="provider.scopes"
                  mono
                  hint="Such as profile groups, where the provider wants to be asked for the groups."
                  value={(provider.scopes ?? []).filter((s) => s !== "openid").join(" ")}
                  onChange={(v) => setProvider({ scopes: v.split(/[\s,]+/) })}
                  error={save.error}
                />
              </div>
            </div>
            <div className="label">Groups of the provider, and the role that each gives</div>
            <Groups list={provider.groups} set={(groups) => setProvider({ groups })} />
          </>
        )}
      </fieldset>
      <Button primary type="submit" needs="own" className="mt-3" disabled={save.isPending}>
        Save
      </Button>
      {saved && <span className="ml-3 text-[13px] text-in">Saved. It counts from now on.</span>}
    </form>
  );
}

/** Which group gives which role. */
function Groups({
  list,
  directories,
  set,
}: {
  list: Schema["GroupRole"][];
  directories?: string[];
  set: (list: Schema["GroupRole"][]) => void;
}) {
  const put = (i: number, patch: Partial<Schema["GroupRole"]>) =>
    set(list.map((g, at) => (at === i ? { ...g, ...patch } : g)));
  return (
    <div className="mb-2 space-y-1.5">
      {list.map((g, i) => (
        <div key={i} className="flex flex-wrap gap-2">
          {directories && (
            <select
              aria-label={`Directory of group ${i + 1}`}
              className="field w-auto py-[2px]"
              value={g.directory}
              onChange={(e) => put(i, { directory: e.target.value })}
            >
              {[...new Set([g.directory ?? "", ...directories])].map((d) => (
                <option key={d}>{d}</option>
              ))}
            </select>
          )}
          <input
            aria-label={`Group ${i + 1}`}
            className="field w-56 py-[2px]"
            value={g.group}
            onChange={(e) => put(i, { group: e.target.value })}
          />
          <select
            aria-label={`Role of group ${i + 1}`}
            className="field w-auto py-[2px]"
            value={g.role}
            onChange={(e) => put(i, { role: e.target.value as Role })}
          >
            {roleNames.map((role) => (
              <option key={role}>{role}</option>
            ))}
          </select>
          <button
            type="button"
            className="text-[12px] text-soft underline"
            aria-label={`Remove group ${i + 1}`}
            onClick={() => set(list.filter((_, at) => at !== i))}
          >
            remove
          </button>
        </div>
      ))}
      <Button
        needs="own"
        onClick={() => set([...list, { directory: directories?.[0], group: "", role: "auditor" }])}
        disabled={directories && directories.length === 0}
      >
        Add a group
      </Button>
    </div>
  );
}
