import { useState } from "react";
import type { Schema } from "../../api/client";
import { Button, Failure, Notice } from "../../ui/basic";
import { TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";
import { Steps, useSteps } from "../../ui/steps";

type Proposal = Schema["Proposal"];

/** Finds a directory from a domain or a host, has its certificate trusted, and hands the settings to the form. */
export function Connect({
  take,
  label,
}: {
  take: (found: object, password: string) => void;
  /** What taking the settings is called, if they are not put into a form. */ label?: string;
}) {
  const [form, setForm] = useState({ text: "", dns: "", bindName: "", bindPassword: "" });
  const [ca, setCA] = useState("");
  const [base, setBase] = useState("");
  const [taken, setTaken] = useState(false);
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const job = useSteps<Proposal>("/directory-discovery");
  const find = async (trusted: string) => {
    setCA(trusted);
    setTaken(false);
    const found = await job.run({ ...form, ca: trusted });
    setBase(found?.base ?? "");
  };
  const p = job.end;
  const found = p && p.servers.length > 0 ? p : null;
  return (
    <section aria-label="Connect" className={label ? "mb-3" : "mb-6 border-b border-hair pb-5"}>
      <p className={`mb-2 text-soft ${label ? "hidden" : ""}`}>
        Enter the domain or one of its servers. The other servers are found, the safest connection that works is chosen,
        and no password is sent to a server before it is trusted.
      </p>
      <form
        className="grid max-w-[1100px] items-end sm:grid-cols-2 lg:grid-cols-4 gap-x-4"
        onSubmit={(e) => {
          e.preventDefault();
          find(ca);
        }}
      >
        <TextField
          label="Domain or server"
          mono
          placeholder="example.org"
          value={form.text}
          onChange={(text) => {
            set({ text });
            setCA("");
          }}
        />
        <TextField
          label="Service account"
          mono
          placeholder="tollgate"
          value={form.bindName}
          onChange={(bindName) => set({ bindName })}
        />
        <TextField
          label="Its password"
          type="password"
          value={form.bindPassword}
          onChange={(bindPassword) => set({ bindPassword })}
          autoComplete="new-password"
        />
        <TextField
          label="Ask these DNS servers"
          mono
          placeholder="those of this machine"
          value={form.dns}
          onChange={(dns) => set({ dns })}
        />
        <div className="col-span-full flex gap-2">
          {job.running ? (
            <Button onClick={job.cancel}>Stop</Button>
          ) : (
            <Button primary type="submit" disabled={!form.text.trim()}>
              Find it
            </Button>
          )}
          {!label && <span className="hint self-center">Or fill in the form below.</span>}
        </div>
      </form>
      <Failure error={job.error} />
      <div className="mt-3 grid gap-8 *:min-w-0 lg:grid-cols-[minmax(0,1.35fr)_minmax(0,1fr)]">
        <Steps steps={job.steps} />
        {found && (
          <div>
            {!found.trusted &&
              [...found.certificates].reverse().map((c) => (
                <div key={c.sha256} className="mb-3 border-l-[3px] border-brass bg-warn-bg px-3 py-2 text-[13px]">
                  <b>{c.authority ? "Authority" : "Certificate of the server"}</b>{" "}
                  <span className="mono break-words">{c.subject}</span>
                  <div className="text-soft">
                    issued by <span className="mono">{c.issuer}</span>, until {c.notAfter.slice(0, 10)}
                  </div>
                  <div className="mono my-1 text-[11.5px] break-all" aria-label="SHA-256 fingerprint">
                    {c.sha256}
                  </div>
                  <Button onClick={() => find(c.pem)}>
                    {c.authority ? "Trust this authority" : "Trust this certificate"}
                  </Button>
                </div>
              ))}
            {(found.contexts?.length ?? 0) > 1 && (
              <Pick
                label="Base"
                value={base}
                onChange={setBase}
                options={found.contexts.map((c) => ({
                  value: c,
                  label: c + (c === found.base ? " (the usual one)" : ""),
                }))}
              />
            )}
            <dl className="mb-3 grid grid-cols-[110px_1fr] text-[13px]">
              {[
                ["kind", found.kind === "active-directory" ? "Active Directory kind" : "generic"],
                ["servers", found.servers.join(", ")],
                ["connection", found.tls],
                ["signs in as", found.bindName + (found.bound ? ", let in" : "")],
              ].map(([k, v]) => (
                <div key={k} className="contents">
                  <dt className="border-b border-hair py-1 text-soft">{k}</dt>
                  <dd className="mono border-b border-hair py-1 break-words">{v || "-"}</dd>
                </div>
              ))}
            </dl>
            <Button
              primary
              disabled={!found.trusted}
              onClick={() => {
                take(
                  {
                    name: found.name,
                    kind: found.kind,
                    servers: found.servers,
                    tls: found.tls,
                    ca,
                    serverName: found.serverName,
                    bindName: found.bindName,
                    base: base === found.base ? "" : base,
                    dns: found.dns,
                    source: found.source,
                  },
                  form.bindPassword,
                );
                setTaken(true);
              }}
            >
              {label ?? "Take these settings"}
            </Button>
            {taken && !label && (
              <div className="mt-2">
                <Notice tone="in">They are in the form below. Give it a name, and save.</Notice>
              </div>
            )}
          </div>
        )}
      </div>
    </section>
  );
}
