import { Refused, type Schema } from "./client";

export type Comparison = Schema["FileComparison"];

/** Sends a configuration file as it is. */
export async function sendFile<T>(path: string, text: string): Promise<T> {
  const response = await fetch("/api/v1" + path, {
    method: "POST",
    headers: { "Content-Type": "application/yaml" },
    body: text,
  });
  if (!response.ok) {
    const p = (await response.json().catch(() => ({}))) as Partial<Schema["Problem"]>;
    throw new Refused(response.status, p.detail ?? response.statusText, p.remedy ?? "", p.errors ?? []);
  }
  return (await response.json()) as T;
}
