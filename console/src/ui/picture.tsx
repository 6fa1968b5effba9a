import type { ReactNode } from "react";

/** The picture that an authenticator takes. It is dark on white by night too, since cameras want it so. */
function Picture({ rows }: { rows: string[] }) {
  const path = rows.flatMap((row, y) => [...row].map((c, x) => (c === "1" ? `M${x} ${y}h1v1h-1z` : ""))).join("");
  return (
    <svg
      role="img"
      aria-label="QR code for the authenticator"
      viewBox={`0 0 ${rows.length} ${rows.length}`}
      className="h-56 w-56 shrink-0 bg-white"
      shapeRendering="crispEdges"
    >
      <path d={path} fill="#000" />
    </svg>
  );
}

/** What a person brings into an authenticator: the picture or the seed, and what is asked for beside. */
export function Offer({
  offer,
  lead,
  children,
}: {
  offer: { qr: string[]; seed: string };
  lead: ReactNode;
  children: ReactNode;
}) {
  return (
    <>
      <Picture rows={offer.qr} />
      <div className="min-w-0 grow">
        <p className="mb-2">{lead}</p>
        <p className="mono mb-3 break-all select-all" data-secret>
          {offer.seed.replace(/(.{4})/g, "$1 ")}
        </p>
        {children}
      </div>
    </>
  );
}
