import { Refused, type Schema } from "./client";

export type Comparison = Schema["FileComparison"];

/** What a refused call said. */
async function refusal(response: Response) {
  const p = (await response.json().catch(() => ({}))) as Partial<Schema["Problem"]>;
  return new Refused(response.status, p.detail ?? response.statusText, p.remedy ?? "", p.errors ?? []);
}

/** Makes a file with a call, and has the browser save it under the name that the service gives it. */
export async function download(path: string, body: unknown) {
  const response = await fetch("/api/v1" + path, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
  if (!response.ok) throw await refusal(response);
  const name = /filename="([^"]+)"/.exec(response.headers.get("Content-Disposition") ?? "")?.[1] ?? "tollgate.backup";
  saveFile(name, await response.blob());
}

/** Has the browser save a file. */
export function saveFile(name: string, content: Blob) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** Sends a configuration file as it is. */
export async function sendFile<T>(path: string, text: string): Promise<T> {
  const response = await fetch("/api/v1" + path, {
    method: "POST",
    headers: { "Content-Type": "application/yaml" },
    body: text,
  });
  if (!response.ok) throw await refusal(response);
  return (await response.json()) as T;
}
