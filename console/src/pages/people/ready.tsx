import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { saveFile } from "../../api/file";
import { Invite } from "./invite";
import { RollOut } from "./roll-out";
import { Button, ButtonLink, Failure, Notice, PageHead, rowKeys, Trail, Verdict, When } from "../../ui/basic";

type Group = Schema["ReadyGroup"];
type Person = Schema["ReadyPerson"];

/** Who has a second factor and who has none, by group: what asking for it would do today. */
export function ReadyPage() {
  const [params, setParams] = useSearchParams();
  const group = params.get("group");
  const found = useQuery({
    queryKey: ["factor-readiness", group],
    queryFn: () =>
      call<Schema["Readiness"]>(
        "GET",
        `/factor-readiness?limit=${group === null ? 0 : 2000}&group=${encodeURIComponent(group ?? "")}`,
      ),
    placeholderData: (b) => b,
    staleTime: 30_000,
    refetchInterval: group === null ? false : 30_000,
  });
  const save = useMutation({
    mutationFn: async () => {
      const response = await fetch(`/api/v1/factor-readiness/file?group=${encodeURIComponent(group ?? "")}`);
      if (!response.ok) throw new Error(`the file could not be made: ${response.statusText}`);
      saveFile("ready.csv", await response.blob());
    },
  });
  const r = found.data;
  const counted = group ? r?.groups.find((g) => g.group === group) : r?.everybody;
  if (group !== null)
    return (
      <>
        <Trail to="/readiness" of="Who is ready">
          {group || "everybody"}
        </Trail>
        <PageHead title={group || "Everybody"} lead="who has a second factor, and who has none">
          <Button onClick={() => save.mutate()}>Save as a file</Button>
        </PageHead>
        <Failure error={found.error ?? save.error} />
        {counted && <RollOut group={group} people={counted.people} enrolled={counted.enrolled} />}
        {r && <People r={r} />}
      </>
    );
  return (
    <>
      <PageHead title="Who is ready" lead="for a second factor, of those who signed in lately or have an account">
        <ButtonLink to="/readiness/report">Servers and gear</ButtonLink>
        <ButtonLink to="/factors?enrol">Enrol somebody</ButtonLink>
      </PageHead>
      <Failure error={found.error} />
      {r && (
        <>
          <p className="mb-3">
            <b>
              {r.everybody.enrolled} of {r.everybody.people}
            </b>{" "}
            have one. Before a lane asks for it, the{" "}
            <Link className="underline" to="/rehearsal">
              rehearsal
            </Link>{" "}
            says who would be refused; a date until when people without are admitted leaves time to enrol.
          </p>
          <table className="grid-table">
            <thead>
              <tr>
                <th>Group</th>
                <th className="!text-right">People</th>
                <th className="w-[34%]">Ready</th>
                <th className="!text-right">Would be refused today</th>
                <th className="!text-right">In grace</th>
                <th className="!text-right">Failing</th>
              </tr>
            </thead>
            <tbody>
              {[r.everybody, ...r.groups].map((g) => (
                <tr key={g.group} {...rowKeys(() => setParams({ group: g.group }))}>
                  <td className={g.group ? "font-semibold" : "text-soft"}>{g.group || "everybody"}</td>
                  <td className="text-right">{g.people.toLocaleString()}</td>
                  <td>
                    <Share g={g} />
                  </td>
                  <td className={`text-right ${g.without > 0 ? "font-semibold" : "text-soft"}`}>
                    {g.without.toLocaleString()}
                  </td>
                  <td className="text-right">{g.graced || ""}</td>
                  <td className="text-right">{g.failing || ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="mt-3 text-[12.5px] text-soft">
            Attempts were looked at back to <When at={r.backTo} long />. Directory people who have not signed in since
            are not counted.
          </p>
        </>
      )}
    </>
  );
}

/** How many of a group are ready, as a bar with its number. */
function Share({ g }: { g: Group }) {
  const share = g.people ? g.enrolled / g.people : 0;
  return (
    <span className="flex items-center gap-2">
      <span className="h-2 flex-1 rounded-sm bg-[var(--color-hair)]" aria-hidden>
        <span className="block h-2 rounded-sm bg-[var(--color-in)]" style={{ width: `${share * 100}%` }} />
      </span>
      <span className="w-24 text-right text-[13px]">
        {g.enrolled.toLocaleString()} ({Math.round(share * 100)} %)
      </span>
    </span>
  );
}

function People({ r }: { r: Schema["Readiness"] }) {
  return (
    <>
      <table className="grid-table">
        <thead>
          <tr>
            <th>Person</th>
            <th>Kept in</th>
            <th>Second factor</th>
            <th>Signed in last</th>
          </tr>
        </thead>
        <tbody>
          {r.people.map((p) => (
            <tr key={p.store + "/" + p.person}>
              <td>
                <span className="mono font-semibold">{p.person}</span>
                {p.display && <span className="ml-2 text-soft">{p.display}</span>}
              </td>
              <td>{p.store}</td>
              <td>
                <State p={p} />
              </td>
              <td className="text-soft">{p.seen ? <When at={p.seen} long /> : "not lately"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {r.more ? <Notice tone="wait">and {r.more.toLocaleString()} more</Notice> : null}
    </>
  );
}

const kinds: Record<string, string> = {
  code: "codes",
  phone: "phone",
  key: "security key",
  temporary: "temporary code",
};

function State({ p }: { p: Person }) {
  if (p.locked) return <Verdict kind="out">too many wrong codes</Verdict>;
  if (p.failed) return <Verdict kind="out">refused {p.failed} times in 7 days</Verdict>;
  if (p.enrolled)
    return (
      <span className="flex items-center gap-3">
        <Verdict kind="in">ready</Verdict>
        <span className="text-[12.5px] text-soft">{p.with?.map((k) => kinds[k]).join(", ")}</span>
      </span>
    );
  return (
    <span className="flex items-center gap-3">
      <Verdict kind="wait">
        {p.graced ? (
          <>
            none; admitted without since <When at={p.graced} long />
          </>
        ) : (
          "none"
        )}
      </Verdict>
      <Invite small whom={{ person: p.person, store: p.store }} label="Invite" />
      <Link
        className="text-[13px] underline"
        to={`/factors?enrol=${encodeURIComponent(p.person)}&store=${encodeURIComponent(p.store)}`}
      >
        Enrol
      </Link>
    </span>
  );
}
