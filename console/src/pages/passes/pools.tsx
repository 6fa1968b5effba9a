import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { Button, ButtonLink, Empty, Failure, PageHead, rowKeys, Trail, When } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { lines, LinesField, TextField } from "../../ui/form";

type Pool = Schema["Pool"];

export function PoolsPage() {
  const list = useObjects("pools", "", 5_000);
  const go = useNavigate();
  return (
    <>
      <PageHead title="Pools" lead="addresses that passes assign, one per session">
        <ButtonLink primary to="/pools/new">
          Add pool
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No pool yet">
          A VPN gateway can be told which address to assign. A pool provides the addresses and never gives the same one
          to two sessions.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Addresses</th>
              <th>Taken</th>
              <th className="w-64" />
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((p) => (
              <tr key={p.id} {...rowKeys(() => go(`/pools/${p.id}`))}>
                <td className="font-semibold">{p.name}</td>
                <td className="mono">{p.ranges.join(", ")}</td>
                <td>
                  {p.taken} of {p.size}
                </td>
                <td>
                  <svg width="224" height="8" role="img" aria-label={`${p.taken} of ${p.size} taken`}>
                    <rect width="224" height="8" fill="var(--hair)" />
                    <rect
                      width={(224 * p.taken) / (p.size || 1)}
                      height="8"
                      fill={p.taken >= 0.9 * p.size ? "var(--out)" : "var(--brass)"}
                    />
                  </svg>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function PoolPage() {
  const { id = "" } = useParams();
  const one = useObject("pools", id);
  if (id === "new") return <PoolForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Pool" />
        <Failure error={one.error} />
      </>
    );
  return <PoolForm key={one.data.id} pool={one.data} />;
}

function PoolForm({ pool }: { pool?: Pool }) {
  const [form, setForm] = useState({ name: pool?.name ?? "", ranges: pool?.ranges ?? [], note: pool?.note ?? "" });
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  return (
    <div className="max-w-[860px]">
      <Trail to="/pools" of="Pools">
        {pool?.name ?? "new"}
      </Trail>
      <PageHead title={pool?.name ?? "Add pool"} lead={pool && `${pool.taken} of ${pool.size} addresses taken`} />
      {pool && <Problems list={pool.problems} />}
      <Editor kind="pools" noun="pool" object={pool} body={() => ({ ...form, ranges: lines(form.ranges) })}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <LinesField
              label="Addresses"
              field="ranges"
              rows={3}
              hint={
                <>
                  One per line: a prefix such as <code>192.0.2.64/26</code>, or <code>192.0.2.70-192.0.2.99</code>.
                </>
              }
              value={form.ranges}
              onChange={(ranges) => set({ ranges })}
              error={error}
            />
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
      {pool && <Taken pool={pool.name} />}
    </div>
  );
}

function Taken({ pool }: { pool: string }) {
  const queries = useQueryClient();
  const list = useQuery({
    queryKey: ["leases", pool],
    refetchInterval: 5_000,
    queryFn: () => call<{ items: Schema["Lease"][] }>("GET", `/leases?pool=${encodeURIComponent(pool)}`),
  });
  const release = useMutation({
    mutationFn: (address: string) => call("DELETE", `/leases/${encodeURIComponent(address)}`),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <section aria-label="Taken" className="mt-5">
      <h2 className="mb-1">Taken</h2>
      <Failure error={list.error ?? release.error} />
      {list.data?.items.length === 0 ? (
        <p className="text-soft">No address is in use.</p>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Address</th>
              <th>Who</th>
              <th>Client</th>
              <th>Since</th>
              <th>Until at the latest</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((l) => (
              <tr key={l.address}>
                <td className="mono">{l.address}</td>
                <td>{l.who}</td>
                <td>{l.client}</td>
                <td>
                  <When at={l.at} />
                </td>
                <td>
                  <When at={l.until} />
                </td>
                <td>
                  <Button onClick={() => release.mutate(l.address)}>Release</Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
