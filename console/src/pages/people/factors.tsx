import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useDebounced, useQueryText } from "../../api/hooks";
import { Button, Empty, Failure, PageHead, rowKeys, When } from "../../ui/basic";
import { faultsOf, TextField } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { SheetImport } from "../../ui/sheet";
import { Pick } from "../../ui/pick";
import { Offer } from "../../ui/picture";
import { Codes, kinds, State } from "./factor-parts";
import { TemporaryCode } from "./temporary";

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
  const [importing, setImporting] = useState(false);
  return (
    <>
      <PageHead
        title="Second factors"
        lead="devices that make one-time codes, and phones that approve sign-ins; changes take effect at once"
      >
        <input
          aria-label="Search second factors"
          placeholder="Person or device"
          className="field w-56"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <Button needs="assist" onClick={() => setImporting(true)}>
          Import ...
        </Button>
        <TemporaryCode />
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
              <th>Kind</th>
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
                <td>{kinds[x.kind]}</td>
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
      <Modal wide open={importing} onClose={() => setImporting(false)} title="Import devices">
        {importing && (
          <SheetImport
            path="/factor-import"
            named="Person"
            hint={
              <>
                The first line names the columns: <code>person,serial,hex,kind,counter</code>, also{" "}
                <code>store,seed,digits,period,algorithm</code>. A key container (RFC 6030) in clear, with the person as
                UserId, will do as well. Each device counts at once, in place of one that the person has of the same
                serial.
              </>
            }
          />
        )}
      </Modal>
      {person !== null && <Enrol person={person} store={params.get("store") ?? ""} close={() => setParams({})} />}
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
