import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, type Schema } from "../../api/client";
import { AtNode } from "../../ui/at-node";
import { ago, Button, Empty, Failure, Notice, PageHead, When } from "../../ui/basic";
import { Mark, StepRow, useSteps } from "../../ui/steps";

type Line = Schema["ResultsLine"];

/** Every link between this server and the directories it asks: the last outcome, run now, and what changed. */
export function CheckupPage() {
  const [params, setParams] = useSearchParams();
  const node = params.get("node") ?? "";
  return <Checkup key={node} node={node} choose={(name) => setParams(name ? { node: name } : {}, { replace: true })} />;
}

function Checkup({ node, choose }: { node: string; choose: (node: string) => void }) {
  const queries = useQueryClient();
  const path = node ? `/checkup?node=${encodeURIComponent(node)}` : "/checkup";
  const last = useQuery({
    queryKey: ["checkup", node],
    queryFn: () => call<Schema["Checkup"]>("GET", path),
    refetchInterval: 15_000,
  });
  const job = useSteps<{ ok: boolean }, Line>(path);
  const run = async () => {
    await job.run({});
    await queries.invalidateQueries();
  };
  const c = last.data;
  const lines = job.running ? job.steps : (c?.lines ?? []);
  const subjects = [...new Set(lines.map((l) => l.subject))];
  const count = (state: string) => lines.filter((l) => l.state === state).length;
  return (
    <>
      <PageHead
        title="Checkup"
        lead={
          c?.ran && !job.running ? (
            <span className="flex gap-5">
              <Mark state="pass">{count("pass")} pass</Mark>
              <Mark state="warn">{count("warn")} warn</Mark>
              <Mark state="fail">{count("fail")} fail</Mark>
              <span>
                last run {ago(c.ran)}, by itself every {c.every} minutes
              </span>
            </span>
          ) : undefined
        }
      >
        <AtNode value={node} choose={choose} />
        {job.running ? (
          <Button onClick={job.cancel}>Stop</Button>
        ) : (
          <Button primary onClick={run}>
            Run now
          </Button>
        )}
      </PageHead>
      <Failure error={last.error ?? job.error} />
      {job.end && !job.end.ok && (
        <div className="mb-3">
          <Notice tone="out">
            <b>Something fails.</b> It is marked below, with the remedy.
          </Notice>
        </div>
      )}
      {lines.length === 0 && !job.running && (
        <Empty title="Nothing has been checked yet">
          The checkup tests every connection to the directories in use.{" "}
          <Link className="underline" to="/directories">
            Directories
          </Link>
        </Empty>
      )}
      {subjects.map((subject) => {
        const mine = lines.filter((l) => l.subject === subject);
        return (
          <section key={subject} aria-label={subject} className="mb-5">
            <h2 className="mb-1">
              {mine[0].id === "service" ? (
                subject
              ) : (
                <Link className="hover:underline" to={`/directories/${mine[0].id}`}>
                  {subject}
                </Link>
              )}
            </h2>
            <table className="grid-table table-fixed" aria-live="polite">
              <tbody>
                {mine.map((l) => (
                  <StepRow key={l.key + l.server} step={l} />
                ))}
              </tbody>
            </table>
          </section>
        );
      })}
      {c && c.changes.length > 0 && (
        <>
          <h2 className="mb-1">What changed</h2>
          <table className="grid-table">
            <tbody>
              {c.changes.slice(0, 20).map((x) => (
                <tr key={x.id}>
                  <td className="w-36">
                    <When at={x.at} />
                  </td>
                  <td className="w-40 font-semibold">{x.line.subject}</td>
                  <td className="w-44">
                    <span className="inline-flex items-center gap-2">
                      {x.was || "new"} → <Mark state={x.line.state} />
                    </span>
                  </td>
                  <td>
                    <b>{x.line.title}</b> <span className="text-soft">{x.line.detail}</span>
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
