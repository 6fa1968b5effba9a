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
