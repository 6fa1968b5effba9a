import { Link } from "react-router";
import { type Schema } from "../../api/client";
import { Notice, sentence, Verdict, verdictKind } from "../../ui/basic";
import { Road } from "../../ui/road";

/** The road that it would take, with the proof taken to be right. */
export function DryRun({ f }: { f: Schema["DryRun"] }) {
  return (
    <>
      <div className="mb-2 flex items-baseline gap-3">
        <Verdict kind={verdictKind(f.trace.verdict)}>{f.trace.verdict}</Verdict>
        <span className="text-soft">
          dry run under {f.under === "draft" ? "the draft" : "what is running"}; nothing was sent or recorded
        </span>
      </div>
      {f.unsure && (
        <div className="mb-2">
          <Notice tone="wait">
            <b>Uncertain.</b> {sentence(f.unsure)}
          </Notice>
        </div>
      )}
      <Road trace={f.trace} />
      <p className="mt-1 mb-3">
        <b>{sentence(f.trace.sentence)}</b> {f.trace.remedy}
      </p>
      {f.trace.reply.length > 0 && (
        <table className="grid-table">
          <tbody>
            {f.trace.reply.map((r, i) => (
              <tr key={i}>
                <td className="mono w-52">{r.name}</td>
                <td className="mono break-words">{r.value}</td>
                <td className="mono w-56 text-[11px] break-all text-soft">{r.hex}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function Result({ r, user }: { r: Schema["TrialResult"]; user: string }) {
  return (
    <>
      <div className="mb-2 flex items-baseline gap-4">
        <Verdict kind={r.accepted ? "in" : "out"}>{r.accepted ? "admitted" : "refused"}</Verdict>
        <span className="text-soft">
          {r.code || "no answer"}, {r.packets} {r.packets === 1 ? "packet" : "packets"}, {(r.took / 1e6).toFixed(1)} ms
        </span>
        <Link className="ml-auto underline" to={`/attempts?q=${encodeURIComponent(user)}`}>
          Its road
        </Link>
      </div>
      {r.fault && (
        <div className="mb-2">
          <Notice tone="out">
            <b>The device says:</b> {sentence(r.fault)}
          </Notice>
        </div>
      )}
      {r.tls && (
        <dl className="mb-3 grid grid-cols-[130px_minmax(0,1fr)] text-[13px]">
          {[
            [
              "tunnel",
              r.tls.version && `${r.tls.version}, ${r.tls.suite}, ${r.tls.resumed ? "resumed" : "full handshake"}`,
            ],
            ...r.tls.chain.map((c, i) => [i === 0 ? "server certificate" : "sent with it", c]),
            ["session keys", r.keys === "match" ? "the same on both sides" : r.keys === "differ" ? "differ" : ""],
          ]
            .filter(([, v]) => v)
            .map(([k, v], i) => (
              <div key={i} className="contents">
                <dt className="border-b border-hair py-1 text-soft">{k}</dt>
                <dd className="mono border-b border-hair py-1 [overflow-wrap:anywhere]">{v}</dd>
              </div>
            ))}
        </dl>
      )}
      {r.rounds.length > 0 && (
        <>
          <h2 className="mb-1">Round by round, as the device saw it</h2>
          <table className="grid-table mb-4">
            <tbody>
              {r.rounds.map((x, i) => (
                <tr key={i}>
                  <td className="mono w-20 text-right text-soft">{(x.micros / 1000).toFixed(1)} ms</td>
                  <td className="w-24">{x.from === "peer" ? "device →" : "← server"}</td>
                  <td>{x.text}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      {r.attributes.length > 0 && (
        <>
          <h2 className="mb-1">Reply attributes</h2>
          <table className="grid-table">
            <tbody>
              {r.attributes.map((a, i) => (
                <tr key={i}>
                  <td className="mono w-56">{a.name}</td>
                  <td className="mono">{a.value}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}
