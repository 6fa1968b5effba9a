import { linkTo } from "../../api/link";
import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { useAnalysis } from "../../api/hooks";
import { Empty, Failure, millis, Notice, PageHead, sentence, Verdict } from "../../ui/basic";

type Finding = Schema["ResultsFinding"];

const titles: Record<Finding["code"], string> = {
  unreachable: "never reached",
  overlap: "overlaps",
  "always-true": "always true",
  "never-true": "never true",
  "no-policy": "no policy",
  unused: "not used",
  "group-gone": "group gone",
  "group-unknown": "group not picked",
  "group-ambiguous": "ambiguous group",
  incomplete: "not all examined",
};

/** One finding beside what it is about. Notes stay closed until asked for. */
export function FindingLine({ finding: f }: { finding: Finding }) {
  const more = f.example.length > 0 && (
    <div className="mono mt-0.5 text-[12px]">
      For instance: {f.example.join(" · ")}
      {f.instead && <span className="text-soft"> → {f.instead}</span>}
    </div>
  );
  if (f.note) {
    return (
      <details className="mt-1 text-[12.5px] text-soft">
        <summary className="cursor-pointer">
          {titles[f.code]}: {f.message}
        </summary>
        <div className="ml-4">
          {more}
          {f.remedy}
        </div>
      </details>
    );
  }
  return (
    <div className="mt-1">
      <Notice tone="warn">
        <b>{sentence(f.message)}</b> {f.remedy}
        {more}
      </Notice>
    </div>
  );
}

/** What in the draft can never happen, overlaps, or is not used. */
export function AnalysisPage() {
  const analysis = useAnalysis();
  const a = analysis.data;
  const mistakes = a?.items.filter((f) => !f.note) ?? [];
  const notes = a?.items.filter((f) => f.note) ?? [];
  return (
    <>
      <PageHead
        title="Analysis"
        lead={a && `${a.policies} ${a.policies === 1 ? "policy" : "policies"} of the draft, in ${millis(a.micros)}`}
      />
      <p className="mb-3 max-w-[820px] text-soft">
        Done again with every edit. What is called never reached is proven; every example was tried on the real
        conditions.
      </p>
      <Failure error={analysis.error} />
      {a?.problem && <Notice tone="out">{a.problem}</Notice>}
      {a && !a.problem && mistakes.length === 0 && (
        <p className="mb-3">
          <Verdict kind="in">No mistake found</Verdict>
        </p>
      )}
      {mistakes.length > 0 && (
        <List title={`${mistakes.length} ${mistakes.length === 1 ? "mistake" : "mistakes"}`} list={mistakes} />
      )}
      {notes.length > 0 && <List title="Worth knowing" list={notes} />}
      {a && a.items.length === 0 && (
        <Empty title="Nothing to report">Every policy can be reached and every object is used.</Empty>
      )}
    </>
  );
}

function List({ title, list }: { title: string; list: Finding[] }) {
  return (
    <section className="mb-5" aria-label={title}>
      <h2 className="mb-1">{title}</h2>
      <table className="grid-table">
        <thead>
          <tr>
            <th className="w-32">Finding</th>
            <th className="w-56">Where</th>
            <th>What it means</th>
            <th className="w-[330px]">For instance</th>
          </tr>
        </thead>
        <tbody>
          {list.map((f, i) => (
            <tr key={i}>
              <td className={f.note ? "" : "font-semibold text-out"}>{titles[f.code]}</td>
              <td>
                <Link className="hover:underline" to={linkTo(f.kind, f.id)}>
                  {f.object}
                </Link>
                {f.policy && <div className="text-soft">{f.policy}</div>}
              </td>
              <td>
                {sentence(f.message)} <span className="text-soft">{f.remedy}</span>
              </td>
              <td className="mono text-[12px]">
                {f.example.map((e) => (
                  <div key={e}>{e}</div>
                ))}
                {f.instead && <div className="text-soft">→ {f.instead}</div>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
