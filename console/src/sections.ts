/** A page of the navigation; pages that belong together are its tabs. */
export type Section = { name: string; pages: [name: string, path: string][] };

const alone = (name: string, path: string): Section => ({ name, pages: [[name, path]] });

export const groups: [string, Section[]][] = [
  [
    "Watch",
    [
      alone("Now", "/"),
      {
        name: "Attempts",
        pages: [
          ["Attempts", "/attempts"],
          ["Try", "/try"],
        ],
      },
      alone("Sessions", "/sessions"),
      {
        name: "Presence",
        pages: [
          ["Presence", "/presence"],
          ["Sightings", "/sightings"],
          ["Sources", "/sources"],
          ["Scopes", "/scopes"],
          ["Device kinds", "/device-kinds"],
          ["Subscribers", "/subscribers"],
        ],
      },
      alone("Gear journal", "/journal"),
    ],
  ],
  [
    "Set up",
    [
      {
        name: "Clients",
        pages: [
          ["Clients", "/clients"],
          ["Remote servers", "/remotes"],
        ],
      },
      {
        name: "Directories",
        pages: [
          ["Directories", "/directories"],
          ["Realms", "/realms"],
        ],
      },
      {
        name: "People",
        pages: [
          ["People", "/people"],
          ["Second factors", "/factors"],
          ["Who is ready", "/readiness"],
        ],
      },
      alone("Devices", "/devices"),
      {
        name: "Policies",
        pages: [
          ["Lanes", "/lanes"],
          ["Overrides", "/overrides"],
          ["Calendars", "/calendars"],
          ["Expectations", "/expectations"],
          ["Rehearsal", "/rehearsal"],
          ["Analysis", "/analysis"],
        ],
      },
      {
        name: "Passes",
        pages: [
          ["Passes", "/passes"],
          ["Command lists", "/command-lists"],
          ["Pools", "/pools"],
          ["Dictionary", "/vendors"],
        ],
      },
      alone("Certificates", "/certificates"),
    ],
  ],
  [
    "Keep",
    [
      alone("Checkup", "/checkup"),
      alone("History", "/history"),
      alone("Nodes", "/nodes"),
      {
        name: "Settings",
        pages: [
          ["Operators", "/operators"],
          ["Audit", "/audit"],
          ["Sending on", "/feeds"],
          ["You", "/you"],
        ],
      },
    ],
  ],
];

/** Pages of single objects that have no list of their own. */
const within: Record<string, string> = { "/authorities": "/certificates", "/trusts": "/certificates" };

/** The page of the navigation on which a path lies. */
export function pageOf(path: string): string {
  const page = "/" + path.split("/")[1];
  return within[page] ?? page;
}

export const holds = (section: Section, page: string) => section.pages.some(([, path]) => path === page);
