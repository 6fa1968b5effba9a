import { type Schema } from "../../api/client";

export type Client = Schema["Client"];

export const blank = {
  name: "",
  enabled: true,
  addresses: [] as string[],
  messageAuthenticator: "require",
  tags: {} as Record<string, string>,
  note: "",
  tacacsPlain: false,
  tacacsByAddress: false,
  tlsNames: [] as string[],
  tlsCertificate: "",
  tlsTrust: "",
  sessions: {} as Schema["ConfigClientSessions"],
};

/** A secret that was just made, which is told only once. */
export type Made = { protocol: "RADIUS" | "TACACS+"; secret: string };

/** Keeps a secret for the page of its client, until that is opened. */
export function keepMade(id: string, protocol: Made["protocol"], secret: string) {
  sessionStorage.setItem("made-" + id, JSON.stringify({ protocol, secret }));
}

export function takeMade(id: string): Made | undefined {
  const kept = sessionStorage.getItem("made-" + id);
  sessionStorage.removeItem("made-" + id);
  return kept ? JSON.parse(kept) : undefined;
}

export const tagText = (tags: Record<string, string>) => Object.entries(tags).map(([k, v]) => `${k}=${v}`);
