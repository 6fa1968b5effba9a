import type { Schema } from "../../api/client";

/** An amount of data. */
export function amount(octets: number): string {
  for (const [size, unit] of [
    [1e12, "TB"],
    [1e9, "GB"],
    [1e6, "MB"],
    [1e3, "kB"],
  ] as const)
    if (octets >= size) return `${(octets / size).toFixed(octets / size < 10 ? 1 : 0)} ${unit}`;
  return octets ? `${octets} B` : "–";
}

/** How long a session lasts, or lasted. */
export function lasts(s: Pick<Schema["Session"], "open" | "began" | "seconds">): string {
  const seconds = s.open ? Math.max(s.seconds, (Date.now() - new Date(s.began).getTime()) / 1000) : s.seconds;
  if (seconds < 120) return `${Math.max(0, Math.round(seconds))} s`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`;
  return `${Math.floor(seconds / 86400)} d`;
}
