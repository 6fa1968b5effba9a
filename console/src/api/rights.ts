import { useLocation } from "react-router";
import { useAbout } from "./hooks";

/** What roles allow, as the service names it. */
export type Right = "enrol" | "self" | "watch" | "assist" | "read" | "configure" | "own";

/** Pages of which an operator who is limited to some clients may change something. */
const limitedPages = /^\/(clients|try)(\/|$)/;

/** Whether the operator may do something. The service decides; this only spares the attempt. */
export function useMay(right: Right | undefined): boolean {
  return useWhyNot(right) === "";
}

/** Why the operator may not do something, and who may; "" if they may. */
export function useWhyNot(right: Right | undefined): string {
  const about = useAbout().data;
  const at = useLocation().pathname;
  if (!right) return "";
  if (!(about?.rights ?? []).includes(right)) return `Your role does not allow this. These do: ${holders[right]}.`;
  if (right === "configure" && about?.limits?.length && !limitedPages.test(at)) {
    return `You are limited to clients with ${about.limits.join(" ")}. Ask somebody who is not.`;
  }
  return "";
}

/** What pages show, and what making something new on them needs. */
const pages: Record<string, Right> = {
  "": "watch",
  attempts: "watch",
  sessions: "watch",
  presence: "watch",
  sightings: "watch",
  people: "watch",
  factors: "watch",
  readiness: "watch",
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
