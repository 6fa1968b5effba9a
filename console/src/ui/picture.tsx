/** The picture that an authenticator takes. It is dark on white by night too, since cameras want it so. */
export function Picture({ rows }: { rows: string[] }) {
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
