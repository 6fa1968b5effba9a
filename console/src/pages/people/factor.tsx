import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { Button, Failure, Notice, PageHead, Trail, When } from "../../ui/basic";
import { Modal } from "../../ui/modal";
import { Codes, type Factor, kinds, State } from "./factor-parts";
import { TemporaryCode } from "./temporary";

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
  const back = useMutation({
    mutationFn: () => call("DELETE", `/factors/${id}/temporary`),
    onSuccess: () => {
      settled();
      if (one.data?.kind === "temporary") go("/factors");
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
  const whose: [string, React.ReactNode][] = [
    ["person", <span className="mono">{x.person}</span>],
    ["kept in", x.store],
  ];
  const device: [string, React.ReactNode][] = [
    ["device", x.label || "-"],
    ["kind", x.keyed ? `${kinds[x.kind]}, with a security key alone` : kinds[x.kind]],
    ...(x.kind === "code" ? codesOf(x) : []),
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
      <Failure error={renew.error ?? release.error ?? remove.error ?? back.error} />
      {x.lockedUntil && (
        <div className="mb-3">
          <Notice tone="out">
            <b>Too many wrong codes.</b> No code is accepted before <When at={x.lockedUntil} long />. Find out who typed
            them before you release.
          </Notice>
        </div>
      )}
      {x.temporaryUntil && (
        <div className="mb-3">
          <Notice tone="wait">
            A temporary code of {x.person} is good until <When at={x.temporaryUntil} long />.
          </Notice>
        </div>
      )}
      {(x.alarm || x.pausedUntil) && (
        <div className="mb-3">
          <Notice tone="out">
            {x.alarm ? (
              <>
                <b>{x.person} said of a sign-in: this is not me.</b> Whoever signed in knows the password. Have it
                changed before you release.
              </>
            ) : (
              <>
                <b>Too many sign-ins were not approved.</b> Find out who began them before you release.
              </>
            )}
          </Notice>
        </div>
      )}
      {renew.data && <Codes codes={renew.data.codes} />}
      <dl className="mb-4 grid grid-cols-[130px_1fr] text-[13px]">
        {(x.kind === "temporary" ? whose : [...whose, ...device]).map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="border-b border-hair py-1 text-soft">{k}</dt>
            <dd className="border-b border-hair py-1">{v}</dd>
          </div>
        ))}
      </dl>
      <div className="flex gap-2">
        {(x.lockedUntil || x.pausedUntil || x.alarm) && (
          <Button primary onClick={() => release.mutate()}>
            Release
          </Button>
        )}
        {x.confirmed && x.kind !== "temporary" && (
          <Button disabled={renew.isPending} onClick={() => renew.mutate()}>
            New recovery codes
          </Button>
        )}
        {x.temporaryUntil ? (
          <Button needs="assist" onClick={() => back.mutate()}>
            Take the temporary code back
          </Button>
        ) : (
          <TemporaryCode person={x.person} store={x.store} />
        )}
        <Link
          className="self-center underline"
          to={`/factors?enrol=${encodeURIComponent(x.person)}&store=${encodeURIComponent(x.store)}`}
        >
          Enrol another device
        </Link>
        {x.kind !== "temporary" && (
          <Button danger needs="assist" className="ml-auto" onClick={() => setAsking(true)}>
            Remove
          </Button>
        )}
      </div>
      <Modal open={asking} onClose={() => setAsking(false)} title={`Remove the second factor of ${x.person}?`}>
        <p className="mb-4">
          If {x.person} has no other device, sign-ins that ask for a second factor are refused until one is enrolled.
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

const codesOf = (x: Factor): [string, React.ReactNode][] => [
  ["codes", `${x.digits} digits ${x.period ? `every ${x.period} s` : "at each press"}, ${x.algorithm}`],
  [
    "its clock",
    x.clockOff === 0
      ? "as ours"
      : `${Math.abs(x.clockOff)} s ${x.clockOff > 0 ? "ahead of" : "behind"} ours, which is taken into account`,
  ],
];
