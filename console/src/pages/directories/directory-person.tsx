import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Button, Failure, Notice, PassChip, sentence, Verdict } from "../../ui/basic";

type Directory = Schema["Directory"];
type Found = Schema["Found"];

/** Looks one person up: names, groups and the way to them, attributes, and what the draft could give. */
export function Person({ directory }: { directory: Directory }) {
  const asked = useSearchParams()[0].get("person") ?? "";
  const [name, setName] = useState(asked);
  useEffect(() => {
    setName(asked);
    if (asked) look.mutate(asked);
  }, [asked]);
  const look = useMutation({
    mutationFn: (name: string) => call<Found>("GET", `/directories/${directory.id}/people/${encodeURIComponent(name)}`),
  });
  const f = look.data;
  return (
    <section aria-label="Find a person">
      <form
        className="mb-3 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          look.mutate(name.trim());
        }}
      >
        <input
          aria-label="Name of the person"
          placeholder="Name, or host/ and a computer"
          className="field max-w-72"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Button primary type="submit" disabled={!name.trim() || look.isPending}>
          Look up
        </Button>
      </form>
      <Failure error={look.error} />
      {f && !f.person && (
        <Notice tone="out">
          <b>{f.text}.</b> {f.remedy}
        </Notice>
      )}
      {f?.person && <Details found={f} person={f.person} />}
    </section>
  );
}

function Details({ found: f, person: p }: { found: Found; person: NonNullable<Found["person"]> }) {
  const rows: [string, string][] = [
    ["DN", p.id],
    ["signs in as", f.names.join(", ") || "no realm looks here"],
    ...Object.entries(p.attributes ?? {}).map(([k, v]): [string, string] => [k, (v ?? []).join(", ")]),
  ];
  return (
    <>
      <h2 className="mb-1 flex items-center gap-3">
        {p.display || p.name}{" "}
        {p.state === "ok" ? <Verdict kind="in">may sign in</Verdict> : <Verdict kind="out">{p.state}</Verdict>}
      </h2>
      {f.text && (
        <div className="mb-2">
          <Notice tone="warn">
            <b>{sentence(f.text)}</b> {f.remedy}
          </Notice>
        </div>
      )}
      {f.problem && (
        <div className="mb-2">
          <Notice tone="warn">{f.problem}</Notice>
        </div>
      )}
      <dl className="mb-4 grid grid-cols-[minmax(110px,auto)_1fr] gap-x-0 text-[13px]">
        {rows.map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="border-b border-hair py-1 pr-4 text-soft">{k}</dt>
            <dd className="mono border-b border-hair py-1 break-words">{v || "-"}</dd>
          </div>
        ))}
      </dl>
      <h2 className="mb-1">Groups</h2>
      <table className="grid-table mb-4">
        <tbody>
          {f.memberships.map((m) => (
            <tr key={m.id}>
              <td className="w-56 font-semibold break-words">{m.counts}</td>
              <td className="text-soft">
                {m.primary ? "primary group" : m.through.length ? <>through {m.through.join(", ")}</> : "direct"}
              </td>
            </tr>
          ))}
          {f.memberships.length === 0 && (
            <tr>
              <td className="text-soft">None.</td>
            </tr>
          )}
        </tbody>
      </table>
      <h2 className="mb-1">What the draft would give</h2>
      <table className="grid-table">
        <thead>
          <tr>
            <th>Lane</th>
            <th>Policy</th>
            <th>Gives</th>
            <th>If</th>
          </tr>
        </thead>
        <tbody>
          {f.prospects.map((x, i) => (
            <tr key={i}>
              <td>{x.lane}</td>
              <td className="font-semibold">
                {x.policy || <span className="font-normal text-soft">no policy can match</span>}
              </td>
              <td>
                {x.outcome === "admit" ? (
                  <>
                    <PassChip name={x.pass} />
                    {x.vlan && <span className="mono"> VLAN {x.vlan}</span>}
                  </>
                ) : (
                  <Verdict kind="out">refused</Verdict>
                )}
              </td>
              <td className="mono text-[12px] break-words">{x.if}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Whose passwords are held back, so that the directory does not lock them. */
export function Guard({ directory }: { directory: Directory }) {
  const queries = useQueryClient();
  const held = useQuery({
    queryKey: ["held", directory.id],
    queryFn: () => call<Schema["HeldBack"]>("GET", `/directories/${directory.id}/held`),
    refetchInterval: 5000,
    retry: false,
  });
  const release = useMutation({
    mutationFn: (person: string) => call("POST", `/directories/${directory.id}/release`, { person }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["held"] }),
  });
  const h = held.data;
  return (
    <section aria-label="Lockout guard">
      <p className="mb-3 text-soft">
        A phone that keeps sending an old password can lock its owner out of everything. Wrong passwords are no longer
        passed on before the directory would lock the account: first those from the device, then all of that person.
      </p>
      <Failure error={held.error ?? release.error} />
      {h && (
        <p className="mb-3">
          {h.after === 0 ? (
            "No lockout protection: the directory does not lock accounts, or does not tell its rule."
          ) : (
            <>
              {h.threshold > 0 && (
                <>
                  The domain locks an account after <b>{h.threshold}</b> wrong passwords.{" "}
                </>
              )}
              Here they are held back after <b>{h.after}</b> within {h.minutes} minutes.
            </>
          )}
        </p>
      )}
      {h &&
        h.after > 0 &&
        (h.items.length === 0 ? (
          <p className="text-soft">Nobody's passwords are held back now.</p>
        ) : (
          <table className="grid-table">
            <thead>
              <tr>
                <th>Person</th>
                <th>Device</th>
                <th>Wrong</th>
                <th>Until</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {h.items.map((x) => (
                <tr key={x.person + x.device}>
                  <td className="font-semibold">{x.person}</td>
                  <td className="mono">{x.device || "every"}</td>
                  <td>{x.wrong}</td>
                  <td>{new Date(x.until).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}</td>
                  <td className="text-right">
                    <Button aria-label={`Release ${x.person}`} onClick={() => release.mutate(x.person)}>
                      Release
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        ))}
    </section>
  );
}
