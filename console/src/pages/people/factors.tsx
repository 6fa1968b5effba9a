import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useDebounced, useQueryText } from "../../api/hooks";
import { Button, Empty, Failure, Notice, PageHead, rowKeys, Trail, Verdict, When } from "../../ui/basic";
import { faultsOf, TextField } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { Offer } from "../../ui/picture";

type Factor = Schema["Factor"];

export function FactorsPage() {
  const [q, setQ] = useQueryText();
  const [params, setParams] = useSearchParams();
  const go = useNavigate();
  const late = useDebounced(q);
  const list = useQuery({
    queryKey: ["factors", late],
    queryFn: () => call<Schema["PageFactor"]>("GET", `/factors?limit=500&q=${encodeURIComponent(late)}`),
    placeholderData: (b) => b,
    refetchInterval: 5000,
  });
  const person = params.get("enrol");
  return (
    <>
      <PageHead title="Second factors" lead="devices that generate one-time codes; changes take effect at once">
        <input
          aria-label="Search second factors"
          placeholder="Person or device"
          className="field w-56"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <Button primary needs="assist" onClick={() => setParams({ enrol: "" })}>
          Enrol somebody
        </Button>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title={q ? "No matching person" : "Nobody is enrolled yet"}>
          Lanes that ask for a one-time code refuse people without a second factor. Enrol people before you publish such
          a lane.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Person</th>
              <th>Kept in</th>
              <th>Device</th>
              <th>State</th>
              <th>Last used</th>
              <th className="text-right">Recovery codes</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((x) => (
              <tr key={x.id} {...rowKeys(() => go(`/factors/${x.id}`))}>
                <td>
                  <span className="mono font-semibold">{x.person}</span>
                  {x.display && <span className="ml-2 text-soft">{x.display}</span>}
                </td>
                <td>{x.store}</td>
                <td>{x.label || "-"}</td>
                <td>
                  <State x={x} />
                </td>
                <td className="text-soft">
                  {x.usedAt ? (
                    <>
                      <When at={x.usedAt} long /> on {x.usedOn}
                    </>
                  ) : (
                    "never yet"
                  )}
                </td>
                <td className="text-right">{x.confirmed ? x.recovery : ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {person !== null && <Enrol person={person} store={params.get("store") ?? ""} close={() => setParams({})} />}
    </>
  );
}

function State({ x }: { x: Factor }) {
  if (!x.confirmed) return <Verdict kind="wait">not confirmed</Verdict>;
  if (x.lockedUntil) return <Verdict kind="out">too many wrong codes</Verdict>;
  return <Verdict kind="in">in use</Verdict>;
}

function Codes({ codes }: { codes: string[] }) {
  return (
    <>
      <Notice tone="in">
        <b>It is active from now on.</b> These recovery codes are shown only here; each is good once, in place of a
        code. Give them to the person.
      </Notice>
      <ul className="mono my-3 grid w-72 grid-cols-2 gap-x-8 gap-y-1 text-[14px]" data-secret>
        {codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
    </>
  );
}

function Enrol({ person, store, close }: { person: string; store: string; close: () => void }) {
  const queries = useQueryClient();
  const [form, setForm] = useState({
    person,
    store,
    label: "",
    seed: "",
    algorithm: "SHA1",
    digits: "6",
    period: "30",
  });
  const [code, setCode] = useState("");
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const directories = useQuery({
    queryKey: ["directories", ""],
    queryFn: () => call<Schema["PageDirectory"]>("GET", "/directories?limit=1000"),
  });
  const begin = useMutation({
    mutationFn: () =>
      call<Schema["FactorOffer"]>("POST", "/factors", {
        ...form,
        digits: Number(form.digits),
        period: Number(form.period),
      }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["factors"] }),
  });
  const confirm = useMutation({
    mutationFn: () => call<Schema["FactorRecovery"]>("POST", `/factors/${begin.data!.factor.id}/confirm`, { code }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["factors"] }),
  });
  const error = begin.error;
  const offer = begin.data;
  const title = offer ? `Enrol ${offer.factor.display || offer.factor.person}` : "Enrol somebody";
  return (
    <Modal open onClose={close} title={title} wide={!!offer}>
      {confirm.data ? (
        <>
          <Codes codes={confirm.data.codes} />
          <Button primary onClick={close}>
            Done
          </Button>
        </>
      ) : offer ? (
        <form
          className="flex gap-6"
          onSubmit={(e) => {
            e.preventDefault();
            confirm.mutate();
          }}
        >
          <Offer
            offer={offer}
            lead={`Have ${offer.factor.person} take this picture with an authenticator, or type the seed:`}
          >
            <TextField
              label="Code shown now"
              field="code"
              mono
              autoFocus
              autoComplete="one-time-code"
              inputMode="numeric"
              value={code}
              onChange={setCode}
              error={confirm.error}
              hint="Until one code has been confirmed, this second factor is not active."
            />
            {faultsOf(confirm.error, "code").length === 0 && <Failure error={confirm.error} />}
            <div className="mt-2 flex gap-2">
              <Button primary type="submit" disabled={!code || confirm.isPending}>
                Confirm
              </Button>
              <Button onClick={close}>Later</Button>
            </div>
          </Offer>
        </form>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            begin.mutate();
          }}
        >
          <Failure error={error} />
          <TextField
            label="Person"
            field="person"
            mono
            autoFocus
            hint="The name that the directory or the account has, without realm."
            value={form.person}
            onChange={(v) => set({ person: v })}
            error={error}
          />
          <Pick
            label="Kept in"
            field="store"
            value={form.store}
            onChange={(v) => set({ store: v })}
            error={error}
            options={[
              { value: "", label: "wherever the person is found" },
              { value: "local", label: "local accounts" },
              ...(directories.data?.items ?? []).map((d) => ({ value: d.name, label: d.name })),
            ]}
          />
          <TextField
            label="Device"
            field="label"
            hint="A label, such as Ann's phone."
            value={form.label}
            onChange={(label) => set({ label })}
            error={error}
          />
          <details className="mb-3">
            <summary className="cursor-pointer text-[12.5px] font-semibold">
              The device already has a seed, or uses other code settings
            </summary>
            <div className="mt-2">
              <TextField
                label="Seed"
                field="seed"
                mono
                hint="In base32. If left empty, a new seed is generated."
                value={form.seed}
                onChange={(seed) => set({ seed })}
                error={error}
              />
              <div className="grid grid-cols-3 gap-3">
                <Pick
                  label="Algorithm"
                  field="algorithm"
                  value={form.algorithm}
                  onChange={(algorithm) => set({ algorithm })}
                  error={error}
                  options={["SHA1", "SHA256", "SHA512"].map((v) => ({ value: v, label: v }))}
                />
                <TextField
                  label="Digits"
                  field="digits"
                  type="number"
                  min={6}
                  max={8}
                  value={form.digits}
                  onChange={(digits) => set({ digits })}
                  error={error}
                />
                <TextField
                  label="Seconds"
                  field="period"
                  type="number"
                  min={15}
                  max={120}
                  value={form.period}
                  onChange={(period) => set({ period })}
                  error={error}
                />
              </div>
            </div>
          </details>
          <div className="flex gap-2">
            <Button primary type="submit" disabled={!form.person || begin.isPending}>
              Show QR code
            </Button>
            <Button onClick={close}>Cancel</Button>
          </div>
        </form>
      )}
    </Modal>
  );
}

export function FactorPage() {
  const { id = "" } = useParams();
  const queries = useQueryClient();
  const go = useNavigate();
  const [asking, setAsking] = useState(false);
  const one = useQuery({
    queryKey: ["factors", "one", id],
    queryFn: () => call<Factor>("GET", `/factors/${id}`),
    refetchInterval: 5000,
  });
  const settled = () => queries.invalidateQueries({ queryKey: ["factors"] });
  const renew = useMutation({
    mutationFn: () => call<Schema["FactorRecovery"]>("POST", `/factors/${id}/recovery`),
    onSuccess: settled,
  });
  const release = useMutation({ mutationFn: () => call("POST", `/factors/${id}/release`), onSuccess: settled });
  const remove = useMutation({
    mutationFn: () => call("DELETE", `/factors/${id}`),
    onSuccess: () => {
      settled();
      go("/factors");
    },
  });
  const x = one.data;
  if (!x)
    return (
      <>
        <PageHead title="Second factor" />
        <Failure error={one.error} />
      </>
    );
  const rows: [string, React.ReactNode][] = [
    ["person", <span className="mono">{x.person}</span>],
    ["kept in", x.store],
    ["device", x.label || "-"],
    ["codes", `${x.digits} digits every ${x.period} s, ${x.algorithm}`],
    [
      "its clock",
      x.clockOff === 0
        ? "as ours"
        : `${Math.abs(x.clockOff)} s ${x.clockOff > 0 ? "ahead of" : "behind"} ours, which is taken into account`,
    ],
    [
      "last used",
      x.usedAt ? (
        <>
          <When at={x.usedAt} long /> on {x.usedOn}
        </>
      ) : (
        "never yet"
      ),
    ],
    ["wrong since", `${x.wrong} of 5`],
    ["recovery codes", `${x.recovery} left`],
    [
      "enrolled",
      <>
        <When at={x.madeAt} long /> by {x.madeBy}
      </>,
    ],
  ];
  return (
    <div className="max-w-[620px]">
      <Trail to="/factors" of="Second factors">
        {x.person}
      </Trail>
      <PageHead title={x.display || x.person} lead={<State x={x} />} />
      <Failure error={renew.error ?? release.error ?? remove.error} />
      {x.lockedUntil && (
        <div className="mb-3">
          <Notice tone="out">
            <b>Too many wrong codes.</b> No code is accepted before <When at={x.lockedUntil} long />. Find out who typed
            them before you release.
          </Notice>
        </div>
      )}
      {renew.data && <Codes codes={renew.data.codes} />}
      <dl className="mb-4 grid grid-cols-[130px_1fr] text-[13px]">
        {rows.map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="border-b border-hair py-1 text-soft">{k}</dt>
            <dd className="border-b border-hair py-1">{v}</dd>
          </div>
        ))}
      </dl>
      <div className="flex gap-2">
        {x.lockedUntil && (
          <Button primary onClick={() => release.mutate()}>
            Release
          </Button>
        )}
        {x.confirmed && (
          <Button disabled={renew.isPending} onClick={() => renew.mutate()}>
            New recovery codes
          </Button>
        )}
        <Link
          className="self-center underline"
          to={`/factors?enrol=${encodeURIComponent(x.person)}&store=${encodeURIComponent(x.store)}`}
        >
          Enrol another device in its place
        </Link>
        <Button danger needs="assist" className="ml-auto" onClick={() => setAsking(true)}>
          Remove
        </Button>
      </div>
      <Modal open={asking} onClose={() => setAsking(false)} title={`Remove the second factor of ${x.person}?`}>
        <p className="mb-4">
          Where a one-time code is asked for, {x.person} is refused until somebody enrols another device.
        </p>
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
