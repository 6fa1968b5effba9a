import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { useMay } from "../../api/rights";
import { ago, Button, Empty, Failure, Notice, PageHead, Verdict, type VerdictKind, When } from "../../ui/basic";
import { CopyButton } from "../../ui/device-settings";
import { TextField, Tick } from "../../ui/form";
import { Modal, useHeld } from "../../ui/modal";
import { Pick } from "../../ui/pick";
import { Picture } from "./nodes-picture";

type Nodes = Schema["Nodes"];
type Node = Schema["Node"];

const useNodes = () =>
  useQuery({ queryKey: ["nodes"], queryFn: () => call<Nodes>("GET", "/nodes"), refetchInterval: 2_000 });

export function NodesPage() {
  const nodes = useNodes();
  const [inviting, invite] = useState(false);
  const [leaving, remove] = useState<Node>();
  const n = nodes.data;
  return (
    <>
      <PageHead title="Nodes" lead={n && lead(n)}>
        <Button primary needs="own" onClick={() => invite(true)}>
          Invite a node
        </Button>
      </PageHead>
      <Failure error={nodes.error} />
      {n && !n.shared && (
        <Empty title="This is the only node">
          Devices are set to ask two servers. Invite a second machine, and it is the same service: the same
          configuration, people, codes and operators. A witness on a third one keeps a majority when either dies.
        </Empty>
      )}
      {n?.shared && (
        <>
          <Picture nodes={n} />
          <Trouble nodes={n} />
          <table className="grid-table mb-4">
            <thead>
              <tr>
                <th>Node</th>
                <th>State</th>
                <th className="text-right">Behind</th>
                <th className="text-right">Clock</th>
                <th>Version</th>
                <th className="text-right">Attempts, last hour</th>
                <th>Records copied to</th>
                <th>Clients that ask it</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {n.items.map((one) => (
                <tr key={one.number}>
                  <td className="font-semibold whitespace-nowrap">
                    {one.name}
                    {one.self && <span className="font-normal text-soft"> this one</span>}
                  </td>
                  <td data-label="State">
                    <Standing node={one} outside={!!n.etcd} />
                  </td>
                  <td data-label="Behind" className="text-right">
                    {one.seen && one.state !== "silent" ? one.behind.toLocaleString() : "?"}
                  </td>
                  <td data-label="Clock" className="text-right whitespace-nowrap">
                    {one.seen && one.state !== "silent" ? `${one.offset > 0 ? "+" : ""}${one.offset} ms` : "?"}
                  </td>
                  <td data-label="Version" className="mono">
                    {one.version}
                  </td>
                  <td data-label="Attempts, last hour" className="text-right">
                    {!one.witness && one.attempts.toLocaleString()}
                  </td>
                  <td data-label="Records copied to">
                    {one.state === "silent" ? "?" : one.copied ? one.copies : <Uncopied node={one} />}
                  </td>
                  <td data-label="Clients" className="mono">
                    {one.asked.join(", ")}
                    {one.clients > one.asked.length && ` and ${one.clients - one.asked.length} more`}
                  </td>
                  <td className="text-right">
                    {!one.self && (
                      <Button danger needs="own" aria-label={`Remove ${one.name}`} onClick={() => remove(one)}>
                        Remove
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <Lonely list={n.lonely} />
          <Codes nodes={n} />
        </>
      )}
      <Modal open={inviting} onClose={() => invite(false)} title="Invite a node" wide>
        <Invite etcd={n?.etcd} />
      </Modal>
      <Modal open={!!leaving} onClose={() => remove(undefined)} title={`Remove ${leaving?.name ?? ""}?`}>
        {leaving && <Remove node={leaving} done={() => remove(undefined)} />}
      </Modal>
    </>
  );
}

/** How many are there, and how many more may die. */
function lead(n: Nodes): string {
  if (!n.shared) return "machines that are one service";
  if (n.etcd) {
    const here = n.items.filter((one) => one.self || (one.seen && one.state !== "silent")).length;
    return `${here} of ${n.items.length} reachable · state shared by the etcd cluster at ${n.etcd}`;
  }
  const here = n.items.filter((one) => one.self || (one.seen && one.state !== "silent")).length;
  const spare = here - (Math.floor(n.items.length / 2) + 1);
  const may = n.cutOff ? "no majority" : spare > 0 ? `a majority stands · ${spare} more may die` : "no more may die";
  return `${here} of ${n.items.length} reachable · ${may}`;
}

const kinds: Record<Node["state"], VerdictKind> = {
  well: "in",
  joining: "wait",
  behind: "wait",
  engine: "out",
  silent: "out",
};

function Standing({ node: n, outside }: { node: Node; outside: boolean }) {
  const words: Record<Node["state"], string> = {
    well: n.witness ? "witness" : outside ? "up to date" : n.leads ? "leads" : "follows",
    joining: "joining",
    behind: "catching up",
    engine: outside ? "cut off" : "engine down",
    silent: n.seen ? `silent for ${ago(n.seen).replace(" ago", "")}` : "never reached",
  };
  return <Verdict kind={kinds[n.state]}>{words[n.state]}</Verdict>;
}

/** Where records are copied to that are not copied yet, or not any more. */
function Uncopied({ node: n }: { node: Node }) {
  return n.copies ? <Verdict kind="wait">{n.copies.startsWith("nowhere") ? "nowhere" : "catching up"}</Verdict> : null;
}

/** What is the matter, and what to do about it. */
function Trouble({ nodes: n }: { nodes: Nodes }) {
  return (
    <div className="mb-4 grid gap-2">
      {n.removed && (
        <Notice tone="out">
          <b>The other nodes removed this one.</b> It answers devices with what it knew until then. Stop it; to have it
          back, empty its data directory and join again.
        </Notice>
      )}
      {n.cutOff && !n.removed && (
        <Notice tone="out">
          <b>
            {n.etcd ? "The etcd cluster" : "No majority"} is {n.etcd ? "not " : ""}reached since <When at={n.cutOff} />.
          </b>{" "}
          Devices are answered with what this node has. Nothing can be published or changed here, and one-time codes are{" "}
          {n.codesWhenCutOff === "take" ? "taken and looked at afterwards" : "refused"}. If{" "}
          {n.etcd ? "what it held is" : "the others are"} gone for good:{" "}
          <span className="mono">tollgate node recover</span>.
        </Notice>
      )}
      {n.stuck && (
        <Notice tone="out">
          <b>What other nodes changed cannot be taken over.</b> {n.stuck}
        </Notice>
      )}
      {n.items
        .filter((one) => one.state === "silent" || one.state === "engine")
        .map((one) => (
          <Notice key={one.number} tone="out">
            <b>
              {one.name} {one.state === "silent" ? "does not answer" : n.etcd ? "is cut off" : "has no engine"}.
            </b>{" "}
            {one.state === "silent" ? one.says.replace(/^[^:]*: /, "") : one.says}
          </Notice>
        ))}
      {n.items
        .filter((one) => !one.copied && one.copies && one.state !== "silent")
        .map((one) => (
          <Notice key={one.number} tone="warn">
            <b>What {one.name} records is on its own disk alone.</b> It is copied to {one.copies}
          </Notice>
        ))}
      {n.items
        .filter((one) => one.state === "well" && one.says.startsWith("its clock"))
        .map((one) => (
          <Notice key={one.number} tone={Math.abs(one.offset) > 30_000 ? "out" : "warn"}>
            <b>
              {one.name}: {one.says}.
            </b>{" "}
            Check what sets the clocks of both machines.
          </Notice>
        ))}
    </div>
  );
}

/** Clients that will be without service if a node dies. */
function Lonely({ list }: { list: Schema["Lonely"][] }) {
  const by = new Map<string, string[]>();
  list.forEach((l) => by.set(l.node, [...(by.get(l.node) ?? []), l.client]));
  return [...by].map(([node, clients]) => (
    <div key={node} className="mb-2">
      <Notice tone="warn">
        <b>
          {clients.slice(0, 12).join(", ")}
          {clients.length > 12 && ` and ${clients.length - 12} more`} {clients.length === 1 ? "has" : "have"} only ever
          asked {node}.
        </b>{" "}
        {clients.length === 1 ? "It" : "They"} will be without service if it dies: set another node as second server.
      </Notice>
    </div>
  ));
}

function Codes({ nodes: n }: { nodes: Nodes }) {
  const queries = useQueryClient();
  const may = useMay("own");
  const save = useMutation({
    mutationFn: (codesWhenCutOff: string) => call("PUT", "/nodes/settings", { codesWhenCutOff }),
    onSettled: () => queries.invalidateQueries(),
  });
  if (!may) return null;
  return (
    <div className="mt-4 max-w-[520px]">
      <Pick
        label="One-time codes while no majority is reached"
        hint="Two nodes that do not know of each other could take the same code."
        value={n.codesWhenCutOff}
        onChange={(v) => save.mutate(v)}
        options={[
          { value: "refuse", label: "are refused" },
          { value: "take", label: "are taken; one that was used twice is an alarm afterwards" },
        ]}
      />
      <Failure error={save.error} />
    </div>
  );
}

function Invite({ etcd }: { etcd?: string }) {
  const [name, setName] = useState("");
  const [witness, setWitness] = useState(false);
  const held = useHeld();
  const queries = useQueryClient();
  const make = useMutation({
    mutationFn: () => call<Schema["NodeInvitation"]>("POST", "/nodes", { name, witness }),
    onSuccess: () => held.hold(true),
    onSettled: () => queries.invalidateQueries(),
  });
  if (make.data) {
    const command = `tollgated -data DIR ${make.data.flags}${witness ? "-witness " : ""}-join ${make.data.token}`;
    return (
      <>
        <p className="mb-2">
          On the machine that is to be <b>{make.data.name}</b>, with an empty data directory:
        </p>
        <pre data-invitation className="mono mb-2 overflow-x-auto rounded border border-hair bg-sheet p-2 text-[12px]">
          {command}
        </pre>
        <div className="mb-3">
          <CopyButton text={command} />
        </div>
        <p className="text-soft">
          It counts once, until <When at={make.data.until} />.{" "}
          {witness
            ? "A witness keeps a majority when another node dies and does nothing else: it gets no key, and can read nothing of what it keeps."
            : "Whoever has this can join as a node, and gets the sealing key."}{" "}
          Machines reach each other at TCP ports 8441 and 8442, or where <span className="mono">-node-address</span>{" "}
          says.
        </p>
      </>
    );
  }
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        make.mutate();
      }}
    >
      <TextField label="Name of the new node" field="name" value={name} onChange={setName} error={make.error} />
      {!etcd && (
        <Tick label="A witness, which keeps a majority and does nothing else" checked={witness} onChange={setWitness} />
      )}
      <Failure error={make.error} />
      <Button primary type="submit" disabled={!name || make.isPending}>
        Make an invitation
      </Button>
    </form>
  );
}

function Remove({ node, done }: { node: Node; done: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () => call("DELETE", `/nodes/${encodeURIComponent(node.name)}`),
    onSuccess: done,
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <>
      <p className="mb-3">
        {node.witness
          ? "It counts for the majority no more."
          : "It gets no change from then on, and is let in no more. It goes on to answer devices with what it has until it is stopped; its attempts and sessions are there and nowhere else."}
      </p>
      <Failure error={remove.error} />
      <div className="flex gap-2">
        <Button primary onClick={done}>
          Keep it
        </Button>
        <Button danger disabled={remove.isPending} onClick={() => remove.mutate()}>
          Remove it
        </Button>
      </div>
    </>
  );
}
