import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schema = components["schemas"];
export type Fault = Schema["Fault"];

/** A refused call: what the service said, field by field. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly remedy: string,
    readonly faults: Fault[],
    readonly code = "",
  ) {
    super([detail, remedy].filter(Boolean).join(" "));
  }
}

/** Whether a publish was refused because expectations would not be met. */
export const unmet = (error: unknown) => error instanceof Refused && error.code === "expectations.unmet";

async function refused(response: Response): Promise<Refused> {
  try {
    const p = (await response.clone().json()) as Schema["Problem"];
    return new Refused(response.status, p.detail || response.statusText, p.remedy ?? "", p.errors ?? [], p.code);
  } catch {
    return new Refused(response.status, `The service answered ${response.status}.`, "", []);
  }
}

export const api = createClient<paths>({ baseUrl: "/api/v1" });

api.use({
  async onResponse({ response }) {
    if (!response.ok) throw await refused(response);
  },
  onError() {
    return new Refused(0, "The service does not answer.", "Is it running?", []);
  },
});

/** Calls a path that is put together at run time; for the kinds of objects that are all handled alike. */
export async function call<T>(
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<T> {
  let response: Response;
  try {
    response = await fetch("/api/v1" + path, {
      method,
      headers: body === undefined ? headers : { "Content-Type": "application/json", ...headers },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Refused(0, "The service does not answer.", "Is it running?", []);
  }
  if (!response.ok) throw await refused(response);
  return response.status === 204 ? (undefined as T) : ((await response.json()) as T);
}

/** Reads server-sent events of a POST; EventSource can only GET. */
export async function stream(
  path: string,
  body: unknown,
  signal: AbortSignal,
  each: (name: string, data: unknown) => void,
) {
  const response = await fetch("/api/v1" + path, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
    signal,
  });
  if (!response.ok) throw await refused(response);
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  let text = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) return;
    text += value;
    const parts = text.split("\n\n");
    text = parts.pop()!;
    for (const part of parts) {
      let name = "message";
      let data = "";
      for (const line of part.split("\n")) {
        if (line.startsWith("event: ")) name = line.slice(7);
        if (line.startsWith("data: ")) data += line.slice(6);
      }
      if (data) each(name, JSON.parse(data));
    }
  }
}
