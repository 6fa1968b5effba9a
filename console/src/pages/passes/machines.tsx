import type { Schema } from "../../api/client";
import { Verdict, When } from "../../ui/basic";

type States = Schema["Remote"]["states"];

/** How the machines of a remote server are doing, in a word. */
export function Health({ states }: { states: States }) {
  const silent = states.filter((s) => s.silent).length;
  if (silent > 0)
    return (
      <Verdict kind="out">
        {silent} of {states.length} silent
      </Verdict>
    );
  return states.some((s) => s.heard) ? <span className="text-soft">answers</span> : null;
}

/** Each machine with what is known of it. */
export function Machines({ states }: { states: States }) {
  if (states.length === 0) return null;
  return (
    <table className="grid-table mb-5">
      <thead>
        <tr>
          <th>Machine</th>
          <th>State</th>
          <th>Last answer</th>
          <th>Answered</th>
        </tr>
      </thead>
      <tbody>
        {states.map((s) => (
          <tr key={s.address}>
            <td className="mono">{s.address}</td>
            <td>
              {s.silent ? (
                <>
                  <Verdict kind="out">silent</Verdict> <span className="text-soft">{s.fault}</span>
                </>
              ) : s.heard ? (
                <>
                  answers{s.version && <span className="text-soft"> {s.version}</span>}
                  {!s.speaks && <span className="text-soft">, but no Status-Server</span>}
                </>
              ) : (
                <span className="text-soft">not asked yet</span>
              )}
            </td>
            <td>
              {s.heard && (
                <>
                  <When at={s.heard} />, in {(s.micros / 1000).toFixed(1)} ms
                </>
              )}
            </td>
            <td>
              {s.answers} of {s.asked}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
