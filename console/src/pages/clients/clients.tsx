import { Rows } from "../../ui/rows";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api } from "../../api/client";
import { useDebounced, useObjectPages, useQueryText } from "../../api/hooks";
import { ago, Button, ButtonLink, Empty, Failure, PageHead, rowKeys, sentence } from "../../ui/basic";
import { Tick } from "../../ui/form";
import { Modal } from "../../ui/modal";
import { SheetImport } from "../../ui/sheet";
import { Bulk } from "./bulk";
import { type Client, tagText } from "./client";
import { State } from "./client-state";
import { ClientForm } from "./client-form";

const speaks = (c: Client) =>
  [c.secretSet && "RADIUS", (c.tacacsSecretSet || c.tacacsPlain) && "TACACS+", c.tlsNames.length > 0 && "TLS"]
    .filter(Boolean)
    .join(", ");

export function ClientsPage() {
  const [q, setQ] = useQueryText();
  const [picked, setPicked] = useState<string[]>([]);
  const [all, setAll] = useState(false);
  const [changing, setChanging] = useState(false);
  const [importing, setImporting] = useState(false);
  const list = useObjectPages("clients", useDebounced(q), 5000);
  const unknown = useQuery({
    queryKey: ["contacts"],
    queryFn: async () => (await api.GET("/contacts", { params: { query: { unknown: true } } })).data!,
    refetchInterval: 5000,
  });
  const [params] = useSearchParams();
  const go = useNavigate();
  if (params.get("add")) return <ClientForm address={params.get("add")!} />;
  return (
    <>
      <PageHead title="Clients" lead="devices that may send requests">
        <input
          aria-label="Search clients"
          placeholder="Name, address, tag"
          className="field w-56"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <a
          href={`/api/v1/client-export?q=${encodeURIComponent(q)}`}
          download
          className="self-center text-[13px] text-soft underline"
        >
          Export CSV
        </a>
        <Button needs="configure" onClick={() => setImporting(true)}>
          Import CSV
        </Button>
        <ButtonLink primary to="/clients/new">
          Add client
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.items?.length === 0 ? (
        <Empty title={q ? "No matching client" : "No client yet"}>
          {!q && "Add the first switch, controller or VPN gateway: its address and its shared secret."}
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th className="w-6">
                <input
                  type="checkbox"
                  aria-label="Choose all that are shown"
                  checked={picked.length > 0 && picked.length === list.items?.length}
                  onChange={(e) => setPicked(e.target.checked ? (list.items ?? []).map((c) => c.id) : [])}
                />
              </th>
              <th>Name</th>
              <th>Addresses</th>
              <th>Tags</th>
              <th>Speaks</th>
              <th>Message-Authenticator</th>
              <th>State</th>
              <th>Last seen</th>
              <th className="!pr-0 !text-right">Discarded</th>
            </tr>
          </thead>
          <tbody>
            <Rows
              items={list.items ?? []}
              id={(c) => c.id}
              row={(c) => (
                <tr {...rowKeys(() => go(`/clients/${c.id}`))}>
                  <td onClick={(e) => e.stopPropagation()}>
                    <input
                      type="checkbox"
                      aria-label={`Choose ${c.name}`}
                      checked={picked.includes(c.id)}
                      onChange={(e) =>
                        setPicked(e.target.checked ? [...picked, c.id] : picked.filter((id) => id !== c.id))
                      }
                    />
                  </td>
                  <td className="font-semibold whitespace-nowrap">{c.name}</td>
                  <td className="mono">{c.addresses.join(", ")}</td>
                  <td className="mono text-soft">{tagText(c.tags).join(" ")}</td>
                  <td>{speaks(c)}</td>
                  <td>{c.secretSet ? c.messageAuthenticator : ""}</td>
                  <td>
                    <State c={c} />
                  </td>
                  <td className="text-soft">{c.lastSeen ? ago(c.lastSeen) : ""}</td>
                  <td className="mono pr-0 text-right">{c.dropped || ""}</td>
                </tr>
              )}
            />
          </tbody>
        </table>
      )}
      {list.more && (
        <p className="mt-3 flex items-center gap-3 text-soft">
          <Button disabled={list.loading} onClick={list.more}>
            More
          </Button>
          The first {list.items?.length.toLocaleString()} by name are shown. Search to find one.
        </p>
      )}
      {picked.length > 0 && (
        <div className="sticky bottom-0 z-10 mt-3 flex flex-wrap items-center gap-3 border border-hair bg-sheet px-3 py-2 shadow-lg">
          <b>{picked.length.toLocaleString()} chosen</b>
          {list.more && picked.length === list.items?.length && (
            <Tick
              label={q ? "all that match, also those not shown" : "all there are, also those not shown"}
              checked={all}
              onChange={setAll}
            />
          )}
          <Button primary needs="configure" className="ml-auto" onClick={() => setChanging(true)}>
            Change them ...
          </Button>
          <Button onClick={() => setPicked([])}>Choose none</Button>
        </div>
      )}
      {changing && (
        <Bulk
          chosen={!all ? { clients: picked } : q ? { matching: q } : { all: true }}
          count={all ? undefined : picked.length}
          close={() => {
            setChanging(false);
            setPicked([]);
            setAll(false);
          }}
        />
      )}
      <Modal wide open={importing} onClose={() => setImporting(false)} title="Import clients from CSV">
        {importing && (
          <SheetImport
            path="/client-import"
            named="Name"
            hint={
              <>
                The first line names the columns:{" "}
                <code>name,addresses,tags,enabled,message_authenticator,note,secret</code>; only name is needed. A
                client of that name is changed, others are added to the draft; one without a secret is given one.
              </>
            }
          />
        )}
      </Modal>
      {(unknown.data?.items.length ?? 0) > 0 && (
        <>
          <h2 className="mt-6 mb-1.5">Unknown sources</h2>
          <table className="grid-table">
            <tbody>
              {unknown.data!.items.map((c) => (
                <tr key={c.address}>
                  <td className="mono w-44">{c.address}</td>
                  <td>
                    {sentence(c.sentence)} <span className="text-soft">{c.remedy}</span>
                  </td>
                  <td className="text-soft whitespace-nowrap">
                    {c.count} requests, {ago(c.last)}
                  </td>
                  <td className="text-right">
                    <ButtonLink to={`/clients?add=${c.address}`}>Add as client</ButtonLink>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}
