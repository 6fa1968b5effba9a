import { useQuery } from "@tanstack/react-query";
import { call, type Schema } from "../../api/client";
import { Failure, PageHead, Trail, Verdict } from "../../ui/basic";

type Check = Schema["ReportCheck"];

const tones: Record<Check["state"], "in" | "wait" | "out"> = { good: "in", warn: "wait", bad: "out" };

/** Whether servers, lanes and clients are ready for a second factor. */
export function ReportPage() {
  const found = useQuery({
    queryKey: ["factor-report"],
    queryFn: () => call<Schema["FactorReport"]>("GET", "/factor-report"),
    staleTime: 30_000,
  });
  const areas = [...new Set(found.data?.checks.map((c) => c.area))];
  return (
    <>
      <Trail to="/readiness" of="Who is ready">
        Servers and gear
      </Trail>
      <PageHead title="Servers and gear" lead="whether they are ready for a second factor, by the sign-ins of 30 days">
        <a
          className="rounded border border-hair bg-sheet px-[11px] py-[3px] text-[13px] font-semibold hover:border-soft"
          href="/api/v1/factor-report/file"
          download="second-factor.html"
        >
          Save as a file
        </a>
      </PageHead>
      <Failure error={found.error} />
      {areas.map((area) => (
        <section key={area}>
          <h2 className="mt-4 mb-1">{area}</h2>
          <table className="grid-table">
            <thead>
              <tr>
                <th className="w-[24%]">Looked at</th>
                <th>State</th>
                <th className="w-[34%]">Found</th>
                <th className="w-[32%]">What to do</th>
              </tr>
            </thead>
            <tbody>
              {found.data?.checks
                .filter((c) => c.area === area)
                .map((c) => (
                  <tr key={c.title + c.found}>
                    <td className="font-semibold">{c.title}</td>
                    <td>
                      <Verdict kind={tones[c.state]}>{c.state}</Verdict>
                    </td>
                    <td>{c.found}</td>
                    <td className="text-soft">{c.remedy}</td>
                  </tr>
                ))}
            </tbody>
          </table>
        </section>
      ))}
    </>
  );
}
