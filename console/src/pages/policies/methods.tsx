import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useMethods, useObjects } from "../../api/hooks";
import { call, type Schema } from "../../api/client";
import { Button, Failure, sentence } from "../../ui/basic";
import { Field, TextField, Tick } from "../../ui/form";
import { Missing } from "../../ui/missing";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { useFirstHour } from "../watch/first-hour";

type TLS = Schema["ConfigLaneTLS"];

export const freshTLS: TLS = {
  certificate: "",
  trust: "",
  minimum: "1.2",
  older: [],
  binding: "optional",
  resumeMinutes: 480,
  prove: "user",
};

/** The methods of a lane by title; weak ones stay marked. */
export function Methods({ names }: { names: string[] }) {
  const all = useMethods().data?.items ?? [];
  return (
    <>
      {names.map((name, i) => {
        const m = all.find((x) => x.name === name);
        return (
          <span key={name}>
            {i > 0 && ", "}
            {m?.title ?? name}
            {m?.exposed && <Weak text={m.exposed} />}
          </span>
        );
      })}
    </>
  );
}

function Weak({ text }: { text: string }) {
  return (
    <span
      title={sentence(text)}
      className="ml-1 rounded-[2px] border border-wait px-1 text-[11px] leading-[14px] font-semibold text-wait"
    >
      weak
    </span>
  );
}

/** How many things of a lane are wrong; weak methods are a choice and are marked, not counted. */
export function Marks({ list }: { list: Schema["ConfigProblem"][] }) {
  const weak = list.some((p) => p.code === "method.weak");
  const n = list.filter((p) => p.code !== "method.weak").length;
  return (
    <>
      {n > 0 && (
        <span className="font-normal text-brass-ink">
          {" "}
          · {n} {n === 1 ? "warning" : "warnings"}
        </span>
      )}
      {weak && (
        <span className="ml-1.5 inline-block rounded-[2px] border border-wait px-1 text-[11px] leading-[14px] font-semibold whitespace-nowrap text-wait">
          weak method
        </span>
      )}
    </>
  );
}

/** What a lane says about TLS, in one line, and what its weak methods expose. */
export function Settings({ lane }: { lane: Schema["Lane"] }) {
  const all = useMethods().data?.items ?? [];
  const certificates = useObjects("certificates").data?.items ?? [];
  const trusts = useObjects("trusts").data?.items ?? [];
  const methods = all.filter((m) => lane.methods.includes(m.name));
  const t = lane.tls;
  const parts = methods.some((m) => m.tls)
    ? [
        `TLS ${t.minimum} or newer`,
        `certificate ${t.certificate || (certificates[0]?.name ?? "none")}`,
        methods.some((m) => m.needs === "certificate") && `trust list ${t.trust || (trusts[0]?.name ?? "none")}`,
        t.resumeMinutes > 0 && `resumed for ${t.resumeMinutes} min`,
        t.binding !== "optional" && `crypto-binding ${t.binding}`,
        t.prove !== "user" && `TEAP proves ${t.prove === "both" ? "computer and user" : "the computer"}`,
        ...t.older,
      ].filter(Boolean)
    : [];
  if (lane.secondFactor)
    parts.push(
      `second factor: one-time code${lane.factor?.when ? ` if ${lane.factor.when}` : ""}${lane.factorRestMinutes ? `, not again within ${lane.factorRestMinutes} min on a client from the same place` : ""}`,
    );
  const weak = methods.filter((m) => m.exposed);
  return (
    <>
      {parts.length > 0 && <div className="mt-1.5 text-[13px] text-soft">{parts.join(" · ")}</div>}
      {weak.length > 0 && (
        <details className="mt-1.5 text-[13px] text-wait">
          <summary className="cursor-pointer font-semibold">
            {weak.map((m) => m.title).join(", ")}: what is exposed, and to whom
          </summary>
          <ul className="mt-1 list-disc pl-5">
            {weak.map((m) => (
              <li key={m.name}>
                <b>{m.title}:</b> {m.exposed}.
              </li>
            ))}
          </ul>
        </details>
      )}
    </>
  );
}

/** What to set on a device for a lane, to read and to copy. */
export function DeviceSettings({ lane }: { lane: Schema["Lane"] }) {
  const [open, setOpen] = useState(false);
  const text = useQuery({
    queryKey: ["supplicant", lane.tag],
    queryFn: () => call<Schema["SupplicantText"]>("GET", `/lanes/${lane.id}/supplicant`),
    enabled: open,
    retry: false,
  });
  return (
    <>
      <Button onClick={() => setOpen(true)}>Settings for devices</Button>
      <Modal wide open={open} onClose={() => setOpen(false)} title={`Settings for devices in lane ${lane.name}`}>
        <Failure error={text.error} />
        {text.data && (
          <>
            <pre className="mono overflow-x-auto text-[12.5px] whitespace-pre-wrap">{text.data.text}</pre>
            {Object.entries(text.data.files).map(([name, file]) => (
              <details key={name} className="mt-2">
                <summary className="cursor-pointer text-[13px] font-semibold">Configuration file for {name}</summary>
                <pre className="mono mt-1 overflow-x-auto border border-hair bg-sheet p-2 text-[12.5px]">{file}</pre>
              </details>
            ))}
          </>
        )}
      </Modal>
    </>
  );
}

/** Chooses the methods of a lane in order, and what TLS needs for them. */
export function MethodsField({
  methods,
  tls,
  onChange,
  error,
}: {
  methods: string[];
  tls: TLS;
  onChange: (methods: string[], tls: TLS) => void;
  error: unknown;
}) {
  const all = useMethods().data?.items ?? [];
  const listed = useObjects("certificates");
  const certificates = listed.data?.items ?? [];
  const hour = useFirstHour();
  const trusts = useObjects("trusts").data?.items ?? [];
  const of = (name: string) => all.find((m) => m.name === name);
  const set = (patch: Partial<TLS>) => onChange(methods, { ...tls, ...patch });
  const move = (i: number, by: number) => {
    const next = [...methods];
    const [name] = next.splice(i, 1);
    next.splice(i + by, 0, name);
    onChange(next, tls);
  };
  const inTLS = methods.some((m) => of(m)?.tls);
  const proven = methods.some((m) => of(m)?.needs === "certificate") || methods.some((m) => m.startsWith("teap"));
  return (
    <>
      <Field
        label="Methods, the preferred first"
        name="methods"
        error={error}
        hint="The server offers the first method; a device can ask for another one in this list."
      >
        {(p) => (
          <div id={p.id} className="rounded border border-hair bg-sheet">
            {methods.map((name, i) => (
              <div key={name} className="border-b border-hair px-2 py-1">
                <div className="flex items-center gap-2">
                  <span className="w-5 text-soft">{i + 1}</span>
                  <b>{of(name)?.title ?? name}</b>
                  <span className="mono text-soft">{name}</span>
                  {of(name)?.exposed && <Weak text={of(name)!.exposed!} />}
                  <span className="ml-auto flex gap-1">
                    <Small disabled={i === 0} label={`Move ${name} up`} onClick={() => move(i, -1)}>
                      ↑
                    </Small>
                    <Small disabled={i === methods.length - 1} label={`Move ${name} down`} onClick={() => move(i, 1)}>
                      ↓
                    </Small>
                    <Small
                      label={`Remove ${name}`}
                      onClick={() =>
                        onChange(
                          methods.filter((m) => m !== name),
                          tls,
                        )
                      }
                    >
                      Remove
                    </Small>
                  </span>
                </div>
                {of(name)?.exposed && (
                  <div className="pb-1 pl-7 text-[12.5px] text-wait">{sentence(of(name)!.exposed!)}</div>
                )}
              </div>
            ))}
            <div className="p-2">
              <select
                aria-label="Add a method"
                className="field w-72 py-0.5 text-[13px]"
                value=""
                onChange={(e) => onChange([...methods, e.target.value], tls)}
              >
                <option value="">Add a method …</option>
                {all
                  .filter((m) => !methods.includes(m.name))
                  .map((m) => (
                    <option key={m.name} value={m.name}>
                      {m.title}
                      {m.exposed ? " (weak)" : ""}
                    </option>
                  ))}
              </select>
            </div>
          </div>
        )}
      </Field>
      {inTLS && (
        <fieldset className="mb-3 rounded border border-hair px-3 pt-1">
          <legend className="label px-1">Inside TLS</legend>
          {listed.isSuccess && certificates.length === 0 && (
            <Missing
              noun="certificate"
              kind="certificates"
              path="/first-hour/certificate"
              fields={[{ key: "name", label: "DNS name of this server", start: hour.data?.serverName }]}
              made={() => {}}
            />
          )}
          <div className="grid grid-cols-2 gap-x-4">
            <Pick
              label="Server certificate"
              search="certificates"
              field="tls.certificate"
              error={error}
              value={tls.certificate ?? ""}
              onChange={(certificate) => set({ certificate })}
              options={[
                { value: "", label: `the first one${certificates[0] ? ` (${certificates[0].name})` : ""}` },
                ...certificates.map((c) => ({ value: c.name, label: c.name })),
              ]}
            />
            <Pick
              label="Lowest version"
              field="tls.minimum"
              error={error}
              value={tls.minimum}
              onChange={(minimum) => set({ minimum })}
              options={["1.3", "1.2", "1.1", "1.0"].map((v) => ({
                value: v,
                label: `TLS ${v}${v < "1.2" ? " (weak)" : ""}`,
              }))}
            />
            {proven && (
              <Pick
                label="Trust list for client certificates"
                search="trusts"
                field="tls.trust"
                error={error}
                value={tls.trust ?? ""}
                onChange={(trust) => set({ trust })}
                options={[
                  {
                    value: "",
                    label: trusts.length === 1 ? `the only one (${trusts[0].name})` : "choose a trust list",
                  },
                  ...trusts.map((t) => ({ value: t.name, label: t.name })),
                ]}
              />
            )}
            <TextField
              label="A session may be resumed for, minutes"
              field="tls.resumeMinutes"
              type="number"
              hint="0 disables resumption. The person is looked up again each time."
              value={String(tls.resumeMinutes)}
              onChange={(v) => set({ resumeMinutes: Number(v) })}
              error={error}
            />
            <Pick
              label="Crypto-binding in PEAP"
              field="tls.binding"
              error={error}
              value={tls.binding}
              onChange={(binding) => set({ binding })}
              options={[
                { value: "optional", label: "where the device can" },
                { value: "require", label: "required" },
                { value: "off", label: "off" },
              ]}
            />
            {methods.some((m) => m.startsWith("teap")) && (
              <Pick
                label="TEAP proves"
                field="tls.prove"
                error={error}
                value={tls.prove}
                onChange={(prove) => set({ prove })}
                options={[
                  { value: "user", label: "the user" },
                  { value: "machine", label: "the computer" },
                  { value: "both", label: "computer and user" },
                ]}
              />
            )}
          </div>
          <Tick
            label="Allow peers without the extended master secret"
            checked={tls.older.includes("no-extended-master-secret")}
            onChange={(on) => set({ older: toggle(tls.older, "no-extended-master-secret", on) })}
          />
          <Tick
            label="Allow old ciphers (RSA key exchange, CBC)"
            checked={tls.older.includes("old-ciphers")}
            onChange={(on) => set({ older: toggle(tls.older, "old-ciphers", on) })}
          />
        </fieldset>
      )}
    </>
  );
}

const toggle = (list: string[], name: string, on: boolean) =>
  on ? [...list.filter((x) => x !== name), name] : list.filter((x) => x !== name);

function Small({
  label,
  disabled,
  onClick,
  children,
}: {
  label: string;
  disabled?: boolean;
  onClick: () => void;
  children: string;
}) {
  return (
    <button
      type="button"
      aria-label={label}
      disabled={disabled}
      onClick={onClick}
      className="rounded border border-hair bg-sheet px-1.5 text-[12.5px] hover:border-soft disabled:opacity-40"
    >
      {children}
    </button>
  );
}
