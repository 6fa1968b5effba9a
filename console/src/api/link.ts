/** The page of each kind of object; what the API calls a kind is what stands here. */
export const places: Record<string, string> = {
  account: "/people",
  attempt: "/attempts",
  authority: "/authorities",
  calendar: "/calendars",
  certificate: "/certificates",
  checkup: "/checkup",
  client: "/clients",
  "command-list": "/command-lists",
  device: "/devices",
  "device-kind": "/device-kinds",
  directory: "/directories",
  expectation: "/expectations",
  factor: "/factors",
  feed: "/feeds",
  journal: "/journal",
  lane: "/lanes",
  node: "/nodes",
  override: "/overrides",
  pass: "/passes",
  pool: "/pools",
  realm: "/realms",
  remote: "/remotes",
  scope: "/scopes",
  session: "/sessions",
  sighting: "/sightings",
  source: "/sources",
  subscriber: "/subscribers",
  trust: "/trusts",
  vendor: "/vendors",
};

/** Where an object is shown; without an identifier, the list of its kind. */
export function linkTo(kind: string, id = ""): string {
  if (kind === "audit") return "/audit"; // its lines have no pages
  const place = places[kind] ?? "/";
  return id ? `${place}/${encodeURIComponent(id)}` : place;
}
