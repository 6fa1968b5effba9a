import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useLayoutEffect, useRef, useState, type ReactNode, type RefObject } from "react";
import { Link, useLocation, useNavigationType } from "react-router";
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
  const [folded, setFolded] = useState(true); // the navigation, where there is little width
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
  const main = useRef<HTMLElement>(null);
  usePlace(main);
  const take = useCallback((e: HTMLElement | null) => {
    main.current = e;
    return labelled(e);
  }, []);
  return (
    <div className="grid h-full grid-cols-1 grid-rows-[auto_minmax(0,1fr)] lg:grid-cols-[196px_minmax(0,1fr)]">
      <nav
        aria-label="Pages"
        id="pages"
        onClick={() => setFolded(true)}
        className={`${folded ? "max-lg:hidden" : "max-lg:fixed max-lg:inset-y-0 max-lg:left-0 max-lg:z-40 max-lg:w-56 max-lg:shadow-xl"} row-span-2 overflow-y-auto border-r border-hair bg-nav py-3 text-[13.5px]`}
      >
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
      {!folded && <div className="fixed inset-0 z-30 bg-black/40 lg:hidden" onClick={() => setFolded(true)} />}
      <header className="flex min-h-12 flex-wrap items-center gap-x-3.5 gap-y-1.5 border-b border-hair bg-sheet px-3 py-1.5 md:px-5">
        <button
          type="button"
          aria-expanded={!folded}
          aria-controls="pages"
          className="rounded border border-hair px-2 py-[3px] text-[13px] font-semibold lg:hidden"
          onClick={() => setFolded(!folded)}
        >
          Pages
        </button>
        <Search pages={shown.flatMap(([, sections]) => sections.flatMap((s) => s.pages))} />
        <div className="ml-auto flex flex-wrap items-center justify-end gap-2 text-[13px]">
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
      <main className="relative min-w-0 overflow-auto px-3 py-4 md:px-5" ref={take}>
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

/** A page begins at its top; one that is gone back to is where it was left. */
function usePlace(main: RefObject<HTMLElement | null>) {
  const at = useLocation();
  const back = useNavigationType() === "POP";
  const places = useRef(new Map<string, number>());
  const path = useRef(at.pathname);
  // in layout, so that a page that goes is not noted as it shrinks
  useLayoutEffect(() => {
    const place = back ? (places.current.get(at.key) ?? 0) : 0;
    let tries = 0;
    const set = () => {
      if (!main.current) return;
      main.current.scrollTop = place;
      if (main.current.scrollTop < place && tries++ < 60) requestAnimationFrame(set); // what is shown comes in yet
    };
    if (back || path.current !== at.pathname) set();
    path.current = at.pathname;
    const note = () => places.current.set(at.key, main.current?.scrollTop ?? 0);
    const element = main.current;
    element?.addEventListener("scroll", note, { passive: true });
    return () => element?.removeEventListener("scroll", note);
  }, [at.key]);
}

/** Names the cells of tables by their headings, which are shown where a table is too wide and its rows are stacked. */
function labelled(main: HTMLElement | null) {
  if (!main) return;
  const label = () => {
    for (const table of main.querySelectorAll<HTMLTableElement>("table.grid-table")) {
      const heads = [...(table.tHead?.rows[0]?.cells ?? [])].map((c) => c.innerText);
      for (const body of table.tBodies) {
        for (const row of body.rows) {
          [...row.cells].forEach((cell, i) => {
            const name = row.cells.length === heads.length ? heads[i] : "";
            if ((cell.dataset.label ?? "") !== name) cell.dataset.label = name;
          });
        }
      }
    }
  };
  let waits = 0;
  const watch = new MutationObserver(() => {
    waits ||= requestAnimationFrame(() => {
      waits = 0;
      if (narrow.matches) label();
    });
  });
  const narrow = matchMedia("(width < 960px)");
  narrow.addEventListener("change", label);
  watch.observe(main, { childList: true, subtree: true });
  label();
  return () => {
    watch.disconnect();
    narrow.removeEventListener("change", label);
  };
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
