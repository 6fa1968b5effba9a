import { useQueryClient } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";
import { api, call } from "./api/client";
import { useAbout, useDraft, useNow, useObjects } from "./api/hooks";
import { rightOf, useMay } from "./api/rights";
import { DraftBar } from "./draft-bar";
import { Modal } from "./ui/form";

const groups: [string, [string, string][]][] = [
  [
    "Watch",
    [
      ["Now", "/"],
      ["Attempts", "/attempts"],
      ["Sessions", "/sessions"],
      ["Gear journal", "/journal"],
      ["Try", "/try"],
    ],
  ],
  [
    "Set up",
    [
      ["Clients", "/clients"],
      ["Directories", "/directories"],
      ["People", "/people"],
      ["Second factors", "/factors"],
      ["Devices", "/devices"],
      ["Realms", "/realms"],
      ["Lanes", "/lanes"],
      ["Passes", "/passes"],
      ["Command lists", "/command-lists"],
      ["Pools", "/pools"],
      ["Overrides", "/overrides"],
      ["Calendars", "/calendars"],
      ["Dictionary", "/vendors"],
      ["Remote servers", "/remotes"],
      ["Sending on", "/feeds"],
      ["Certificates", "/certificates"],
    ],
  ],
  [
    "Keep",
    [
      ["Analysis", "/analysis"],
      ["Expectations", "/expectations"],
      ["Checkup", "/checkup"],
      ["History", "/history"],
      ["Operators", "/operators"],
      ["Audit", "/audit"],
      ["You", "/you"],
    ],
  ],
];

export function Key() {
  return (
    <svg width="26" height="20" viewBox="0 0 26 20" aria-hidden="true">
      <circle cx="6" cy="10" r="4.2" fill="none" stroke="var(--brass)" strokeWidth="2.6" />
      <path d="M10.4 10H25M20.5 10v5M24 10v4" stroke="var(--ink)" strokeWidth="2.6" fill="none" />
    </svg>
  );
}

function toggleTheme() {
  const night = document.documentElement.classList.toggle("night");
  localStorage.setItem("theme", night ? "night" : "light");
}

/** Weak methods stay marked in their lane; they are a choice, and nobody has to act. */
const weak = (p: { code: string }) => p.code === "method.weak";

/** How many things of each page need somebody. */
function useFlags(): Record<string, number> {
  const now = useNow();
  const draft = useDraft();
  const clients = now.data?.attention.filter((a) => a.code === "client.fault").length ?? 0;
  const lanes = draft.data?.problems.filter((p) => p.kind === "lane" && !weak(p)).length ?? 0;
  const certificates = now.data?.attention.filter((a) => a.code.startsWith("certificate.")).length ?? 0;
  const checkup = now.data?.attention.filter((a) => a.severity === "fail" && a.code === "check.failed").length ?? 0;
  return { Checkup: checkup, Clients: clients, Lanes: lanes, Certificates: certificates };
}

/** The pages that the role may see. */
function usePages(): typeof groups {
  const rights = useAbout().data?.rights ?? [];
  return groups
    .map(([name, pages]): (typeof groups)[number] => [name, pages.filter(([, path]) => rights.includes(rightOf(path)))])
    .filter(([, pages]) => pages.length > 0);
}

export function Shell({ operator, role, children }: { operator: string; role: string; children: ReactNode }) {
  const go = useNavigate();
  const at = useLocation();
  const queries = useQueryClient();
  const search = useRef<HTMLInputElement>(null);
  const [palette, setPalette] = useState(false);
  const [help, setHelp] = useState(false);
  const flags = useFlags();
  const shown = usePages();
  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key === "k") {
        e.preventDefault();
        setPalette((o) => !o);
        return;
      }
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName);
      if (typing || e.ctrlKey || e.metaKey || e.altKey) return;
      if (e.key === "/") {
        e.preventDefault();
        search.current?.focus();
      }
      if (e.key === "?") setHelp(true);
    };
    window.addEventListener("keydown", keys);
    return () => window.removeEventListener("keydown", keys);
  }, []);
  const signOut = async () => {
    const out = await api.POST("/sign-out");
    queries.clear();
    location.assign(out.data?.provider ?? "/"); // where the operator is kept by a provider, there too
  };
  useIdle(signOut);
  return (
    <div className="grid h-full grid-cols-[196px_1fr] grid-rows-[48px_1fr]">
      <nav aria-label="Pages" className="row-span-2 overflow-y-auto border-r border-hair bg-nav py-3 text-[13.5px]">
        <div className="flex items-center gap-[9px] px-4 pb-1 font-bold tracking-tight">
          <Key />
          Tollgate Key
        </div>
        {shown.map(([name, pages]) => (
          <div key={name}>
            <div className="mx-4 mt-2.5 mb-0.5 text-[11px] font-semibold text-soft">{name}</div>
            {pages.map(([page, path]) => (
              <NavLink
                key={path}
                to={path}
                end={path === "/"}
                className={({ isActive }) =>
                  `flex justify-between px-4 py-[1px] ${isActive ? "bg-sheet font-semibold shadow-[inset_3px_0_0_var(--brass)]" : ""}`
                }
              >
                <span>{page}</span>
                {flags[page] > 0 && (
                  <span className="text-[12px] text-out" title="need attention">
                    {flags[page]}
                  </span>
                )}
              </NavLink>
            ))}
          </div>
        ))}
      </nav>
      <header className="flex items-center gap-3.5 border-b border-hair bg-sheet px-5">
        <form
          role="search"
          className="relative w-[380px] shrink-0"
          onSubmit={(e) => {
            e.preventDefault();
            const q = new FormData(e.currentTarget).get("q");
            go(`/attempts?q=${encodeURIComponent(String(q))}`);
          }}
        >
          <input
            ref={search}
            name="q"
            key={at.key}
            aria-label="Search attempts"
            placeholder="Person, MAC, address, client"
            className="field bg-paper pr-8"
            autoComplete="off"
            onKeyDown={(e) => e.key === "Escape" && e.currentTarget.blur()}
          />
          <kbd className="absolute top-[6px] right-2 rounded-[3px] border border-hair bg-sheet px-[5px] font-mono text-[11px] leading-4 text-soft">
            /
          </kbd>
        </form>
        <div className="ml-auto flex items-center gap-2 text-[13px]">
          <DraftBar />
          <button
            type="button"
            onClick={toggleTheme}
            title="Light or night"
            aria-label="Light or night"
            className="ml-2 rounded px-1.5 text-soft hover:text-ink"
          >
            ◐
          </button>
          <NavLink
            to="/you"
            className="rounded text-soft hover:text-ink"
            title="Your password, second factor, sessions and tokens"
          >
            {operator} · {role}
          </NavLink>
          <button
            type="button"
            onClick={signOut}
            className="rounded text-soft underline decoration-hair underline-offset-2 hover:text-ink"
          >
            Sign out
          </button>
        </div>
      </header>
      <main className="relative overflow-auto px-5 py-4">{children}</main>
      <Palette open={palette} close={() => setPalette(false)} />
      <Modal open={help} onClose={() => setHelp(false)} title="Keys">
        <dl className="grid grid-cols-[110px_1fr] gap-y-1">
          {[
            ["/", "search attempts"],
            ["Ctrl K", "go to a page or an object"],
            ["↑ ↓", "move in a table"],
            ["Enter", "open"],
            ["Esc", "close"],
            ["Space, ↑ ↓", "lift and move a lane or policy by its handle"],
            ["?", "this list"],
          ].map(([k, v]) => (
            <div key={k} className="contents">
              <dt>
                <kbd className="rounded-[3px] border border-hair bg-sheet px-1.5 font-mono text-[11px]">{k}</kbd>
              </dt>
              <dd>{v}</dd>
            </div>
          ))}
        </dl>
      </Modal>
    </div>
  );
}

/** Ends the session of a page that is open and not used, which asks the service again and again by itself. */
function useIdle(end: () => void) {
  const minutes = useAbout().data?.idleMinutes ?? 0;
  const latest = useRef(end);
  latest.current = end;
  useEffect(() => {
    if (!minutes) return;
    let used = Date.now();
    const use = () => (used = Date.now());
    const signs = ["pointerdown", "keydown", "wheel"];
    for (const sign of signs) window.addEventListener(sign, use, { passive: true });
    const timer = setInterval(() => Date.now() - used > minutes * 60_000 && latest.current(), 5000);
    return () => {
      clearInterval(timer);
      for (const sign of signs) window.removeEventListener(sign, use);
    };
  }, [minutes]);
}

/** Goes to any page or object by typing part of its name. */
function Palette({ open, close }: { open: boolean; close: () => void }) {
  return (
    <Modal open={open} onClose={close} title="Go to">
      {open && <PaletteList close={close} />}
    </Modal>
  );
}

function PaletteList({ close }: { close: () => void }) {
  const go = useNavigate();
  const shown = usePages();
  const mayPublish = useMay("configure");
  const kinds = {
    clients: useObjects("clients"),
    directories: useObjects("directories"),
    realms: useObjects("realms"),
    lanes: useObjects("lanes"),
    passes: useObjects("passes"),
    calendars: useObjects("calendars"),
    vendors: useObjects("vendors"),
    overrides: useObjects("overrides"),
    "command-lists": useObjects("command-lists"),
    expectations: useObjects("expectations"),
    certificates: useObjects("certificates"),
    authorities: useObjects("authorities"),
    trusts: useObjects("trusts"),
  };
  const to = (path: string) => () => {
    close();
    go(path);
  };
  const item = "cursor-pointer rounded px-2 py-1 data-[selected=true]:bg-nav";
  const publish = async () => {
    close();
    await call("POST", "/draft/publish", { note: "" });
    location.reload();
  };
  return (
    <Command label="Go to">
      <Command.Input autoFocus placeholder="Page, client, lane ..." className="field mb-2" />
      <Command.List className="max-h-80 overflow-y-auto">
        <Command.Empty className="p-2 text-soft">No match.</Command.Empty>
        {shown
          .flatMap(([, pages]) => pages)
          .map(([name, path]) => (
            <Command.Item key={path} onSelect={to(path)} className={item}>
              {name}
            </Command.Item>
          ))}
        {mayPublish && (
          <Command.Item onSelect={publish} className={item}>
            Publish the draft
          </Command.Item>
        )}
        {Object.entries(kinds).flatMap(([kind, list]) =>
          (list.data?.items ?? []).slice(0, 200).map((o) => (
            <Command.Item
              key={o.id}
              value={`${kind} ${o.name} ${o.id}`}
              onSelect={to(`/${kind}/${o.id}`)}
              className={item}
            >
              <span className="text-soft">{kind}</span> {o.name}
            </Command.Item>
          )),
        )}
      </Command.List>
    </Command>
  );
}
