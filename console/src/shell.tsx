import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { Link, useLocation } from "react-router";
import { api } from "./api/client";
import { useAbout, useDraft, useNow } from "./api/hooks";
import { rightOf } from "./api/rights";
import { DraftBar } from "./draft-bar";
import { Search } from "./search";
import { groups, holds, pageOf, type Section } from "./sections";
import { Modal } from "./ui/modal";

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
  const may = ({ name, pages }: Section) => ({
    name,
    pages: pages.filter(([, path]) => rights.includes(rightOf(path))),
  });
  return groups
    .map(([name, sections]): (typeof groups)[number] => [name, sections.map(may).filter((s) => s.pages.length > 0)])
    .filter(([, sections]) => sections.length > 0);
}

/** The pages that belong together with the one that is shown. */
function Tabs({ section, at }: { section?: Section; at: string }) {
  if (!section || section.pages.length < 2) return null;
  return (
    <nav aria-label={section.name} className="mb-3 flex flex-wrap gap-x-5 border-b border-hair text-[13px]">
      {section.pages.map(([page, path]) => (
        <Link
          key={path}
          to={path}
          aria-current={path === at ? "page" : undefined}
          className={`-mb-px border-b-2 pb-1 ${path === at ? "border-brass font-semibold" : "border-transparent text-soft hover:text-ink"}`}
        >
          {page}
        </Link>
      ))}
    </nav>
  );
}

export function Shell({ operator, role, children }: { operator: string; role: string; children: ReactNode }) {
  const at = useLocation();
  const queries = useQueryClient();
  const [help, setHelp] = useState(false);
  const flags = useFlags();
  const shown = usePages();
  const page = pageOf(at.pathname);
  const section = shown.flatMap(([, sections]) => sections).find((s) => holds(s, page));
  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName);
      if (typing || e.ctrlKey || e.metaKey || e.altKey) return;
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
        {shown.map(([name, sections]) => (
          <div key={name}>
            <div className="mx-4 mt-4 mb-1 text-[11px] font-semibold text-soft">{name}</div>
            {sections.map((section) => {
              const here = holds(section, page);
              const flag = section.pages.reduce((sum, [name]) => sum + (flags[name] ?? 0), 0);
              return (
                <Link
                  key={section.name}
                  to={section.pages[0][1]}
                  aria-current={here ? "page" : undefined}
                  className={`flex justify-between px-4 py-1 ${here ? "bg-sheet font-semibold shadow-[inset_3px_0_0_var(--brass)]" : ""}`}
                >
                  <span>{section.name}</span>
                  {flag > 0 && (
                    <span className="text-[12px] text-out" title="need attention">
                      {flag}
                    </span>
                  )}
                </Link>
              );
            })}
          </div>
        ))}
      </nav>
      <header className="flex items-center gap-3.5 border-b border-hair bg-sheet px-5">
        <Search pages={shown.flatMap(([, sections]) => sections.flatMap((s) => s.pages))} />
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
          <Link
            to="/you"
            className="rounded text-soft hover:text-ink"
            title="Your password, second factor, sessions and tokens"
          >
            {operator} · {role}
          </Link>
          <button
            type="button"
            onClick={signOut}
            className="rounded text-soft underline decoration-hair underline-offset-2 hover:text-ink"
          >
            Sign out
          </button>
        </div>
      </header>
      <main className="relative overflow-auto px-5 py-4">
        <Tabs section={section} at={page} />
        {children}
      </main>
      <Modal open={help} onClose={() => setHelp(false)} title="Keys">
        <dl className="grid grid-cols-[110px_1fr] gap-y-1">
          {[
            ["/ or Ctrl K", "find a page, a person, an address, any object"],
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
