import type { Schema } from "../../api/client";

export type Role = Schema["GroupRole"]["role"];

/** What each role is for. */
export const roles: Record<Role, string> = {
  owner: "everything, operators and backups too",
  engineer: "configuration, publishing, and all that the helpdesk may",
  helpdesk: "people, devices, second factors, sessions and attempts",
  reception: "its own tokens only, until there are visitors",
  auditor: "sees everything but secrets, changes nothing",
};
export const roleNames = Object.keys(roles) as Role[];
export const roleOptions = roleNames.map((value) => ({ value, label: value }));
