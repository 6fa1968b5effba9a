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
  tacacsNames: [] as string[],
  tacacsCertificate: "",
  tacacsTrust: "",
  sessions: {} as Schema["ConfigClientSessions"],
};
