import { useAbout } from "./hooks";

/** What roles allow, as the service names it. */
export type Right = "enrol" | "self" | "watch" | "assist" | "read" | "configure" | "own";

/** Whether the operator may do something. The service decides; this only spares the attempt. */
export function useMay(right: Right | undefined): boolean {
  const about = useAbout();
  return !right || (about.data?.rights ?? []).includes(right);
}

/** What pages show, and what making something new on them needs. */
const pages: Record<string, Right> = {
  "": "watch",
  attempts: "watch",
  sessions: "watch",
  people: "watch",
  factors: "watch",
  devices: "watch",
  try: "configure",
  you: "self",
};

export function rightOf(path: string): Right {
  const [, page, rest] = path.split(/[/?]/);
  const look = pages[page] ?? "read";
  if (rest !== "new") return look;
  return look === "watch" ? "assist" : "configure";
}

const holders: Record<Right, string> = {
  enrol: "everybody",
  self: "everybody",
  watch: "owner, engineer, helpdesk, auditor",
  assist: "owner, engineer, helpdesk",
  read: "owner, engineer, auditor",
  configure: "owner, engineer",
  own: "owner",
};

/** Why something is out of reach, and for whom it is not. */
export const notAllowed = (right: Right) => `Your role does not allow this. These do: ${holders[right]}.`;
