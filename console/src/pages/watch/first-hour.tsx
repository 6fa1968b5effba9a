import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { call, type Schema } from "../../api/client";
import { useAbout, useObjects } from "../../api/hooks";
import { useMay } from "../../api/rights";
import { Failure } from "../../ui/basic";
import { DeviceSettings } from "../../ui/device-settings";
import { CertificateStep, ClientStep, KeepingStep, NamesStep, PeopleStep } from "./first-steps";
import { ResultsStep } from "./first-results";

type Hour = Schema["FirstHour"];
type Step = Schema["FirstStep"];

/** What a new installation still lacks; nothing for those who may not make it. */
export function useFirstHour() {
  const may = useMay("configure");
  const limited = (useAbout().data?.limits?.length ?? 0) > 0;
  return useQuery({
    queryKey: ["first-hour"],
    queryFn: () => call<Hour>("GET", "/first-hour"),
    enabled: may && !limited,
    refetchInterval: (query) => (query.state.data?.remains ? 3000 : false),
  });
}

const marks: Record<Step["state"], ReactNode> = {
  done: <circle cx="10" cy="10" r="7" fill="var(--ink)" />,
  now: (
    <>
      <circle cx="10" cy="10" r="8" fill="none" stroke="var(--brass)" strokeWidth="3" />
      <circle cx="10" cy="10" r="3" fill="var(--brass)" />
    </>
  ),
  off: <path d="M4 10h12" stroke="var(--soft)" strokeWidth="2" />,
  later: <circle cx="10" cy="10" r="6" fill="none" stroke="var(--soft)" strokeDasharray="3 2.4" />,
};
const words: Record<Step["state"], string> = { done: "done", now: "now", off: "put off", later: "later" };

/** Leads from an empty installation to its first admitted device. Each step is seen from what is there. */
export function FirstHour({ hour }: { hour: Hour }) {
  const queries = useQueryClient();
  const [chosen, setChosen] = useState("");
  const [secret, setSecret] = useState<string>();
  const passes = useObjects("passes").data?.items ?? [];
  const putOff = useMutation({
    mutationFn: ({ step, off }: { step: string; off: boolean }) => call("PUT", `/first-hour/${step}`, { off }),
    onSuccess: () => setChosen(""),
    onSettled: () => queries.invalidateQueries(),
  });
  const made = () => {
    setChosen("");
    queries.invalidateQueries();
  };
  const open =
    hour.steps.find((s) => s.key === chosen && s.state !== "done") ?? hour.steps.find((s) => s.state === "now");
  const form = (key: string): ReactNode => {
    switch (key) {
      case "people":
        return <PeopleStep done={made} />;
      case "names":
        return <NamesStep hour={hour} done={made} />;
      case "certificate":
        return <CertificateStep hour={hour} done={made} />;
      case "results":
        return <ResultsStep hour={hour} done={made} />;
      case "client":
        return <ClientStep hour={hour} show={setSecret} done={made} />;
      case "seen":
        return <Waiting hour={hour} />;
      default:
        return <KeepingStep hour={hour} done={made} keep={() => putOff.mutate({ step: "keeping", off: true })} />;
    }
  };
  return (
    <section aria-label="The first hour">
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4">
        <h1>The first hour</h1>
        <span className="text-soft">
          {hour.done} of {hour.steps.length} · each step checks itself
        </span>
        <span className="ml-auto text-soft">
          or <code>tollgate setup</code> in a terminal
        </span>
      </div>
      <Failure error={putOff.error} />
      <ol>
        {hour.steps.map((s) => (
          <li
            key={s.key}
            className={`-mx-3 grid grid-cols-[24px_minmax(0,1fr)] gap-x-2.5 border-b border-hair px-3 py-2.5 md:-mx-5 md:grid-cols-[24px_140px_minmax(0,1fr)] md:px-5 ${s === open ? "bg-sheet" : ""}`}
            aria-current={s === open ? "step" : undefined}
          >
            <svg width="20" height="20" viewBox="0 0 20 20" role="img" aria-label={words[s.state]}>
              {marks[s === open ? "now" : s.state]}
            </svg>
            <b className={s.state === "done" || s === open ? "" : "text-soft"}>{s.title}</b>
            <div className="min-w-0 max-md:col-start-2">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <span className={s.state === "done" || s === open ? "" : "text-soft"}>{s.text}</span>
                {s.state === "done" && (
                  <Link to={s.page} className="text-[13px] text-brass-ink hover:underline">
                    open
                  </Link>
                )}
                {s.state === "off" && <span className="text-[13px] text-soft">put off</span>}
                {s !== open && s.state !== "done" && s.key !== "seen" && (
                  <button
                    type="button"
                    className="text-[13px] text-brass-ink hover:underline"
                    aria-label={`Do it now: ${s.title}`}
                    onClick={() => {
                      if (s.state === "off") putOff.mutate({ step: s.key, off: false });
                      setChosen(s.key);
                    }}
                  >
                    do it now
                  </button>
                )}
              </div>
              {(s === open || s.state === "done") && s.detail && (
                <div className="text-[13px] text-soft">{s.detail}</div>
              )}
              {s.key === "client" && secret && (
                <div className="mt-2 max-w-[720px]">
                  <DeviceSettings
                    servers={hour.servers}
                    secret={secret}
                    vlans={passes.filter((p) => p.vlan).map((p) => ({ vlan: p.vlan ?? "", pass: p.name }))}
                  />
                </div>
              )}
              {s === open && (
                <div className="mt-2">
                  {form(s.key)}
                  {s.key !== "keeping" && (
                    <div className="mt-2 flex items-center gap-3 text-[13px]">
                      <button
                        type="button"
                        className="text-soft hover:underline"
                        onClick={() => putOff.mutate({ step: s.key, off: true })}
                      >
                        Not now
                      </button>
                      <Link to={s.page} className="text-soft hover:underline">
                        All of it on its own page
                      </Link>
                    </div>
                  )}
                </div>
              )}
            </div>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** Waits for the first attempt. */
function Waiting({ hour }: { hour: Hour }) {
  const seen = hour.attempt;
  return (
    <div className="text-[13px]" role="status">
      {seen ? (
        <>
          <b className="text-out">{seen.sentence}</b>{" "}
          <Link className="underline" to={`/attempts/${seen.id}`}>
            Its road
          </Link>
        </>
      ) : hour.strangers.length > 0 ? (
        <>
          {hour.strangers.join(", ")}{" "}
          {hour.strangers.length === 1 ? "asks, but is no client" : "ask, but are no clients"}.{" "}
          <Link className="underline" to="/clients">
            Look at them
          </Link>
        </>
      ) : (
        <>
          Nothing has asked yet. Plug a device in, or{" "}
          <Link className="underline" to="/try">
            try a sign-in from here
          </Link>
          .
        </>
      )}
    </div>
  );
}
