import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { call, type Schema } from "./api/client";
import { useDebounced } from "./api/hooks";

/** Finds pages, people, addresses and objects of every kind. Enter opens the best answer. */
export function Search({ pages }: { pages: [name: string, path: string][] }) {
  const go = useNavigate();
  const input = useRef<HTMLInputElement>(null);
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState("");
  // Enter before the answers are there opens the best one when they come.
  const [hurried, setHurried] = useState(false);
  const typed = text.trim();
  const late = useDebounced(typed, 120);
  const found = useQuery({
    queryKey: ["search", late],
    queryFn: () => call<Schema["Answers"]>("GET", `/search?q=${encodeURIComponent(late)}`),
    enabled: late !== "",
    placeholderData: keepPreviousData,
  });
  const fresh = late === typed && !found.isPlaceholderData && found.isSuccess;
  const lower = typed.toLowerCase();
  const places = lower
    ? pages
        .filter(([name]) => name.toLowerCase().startsWith(lower))
        .map(([name, page]) => ({ kind: "page", name, page, note: "" }))
    : [];
  const answers = found.data && typed ? found.data.items.map((a) => ({ ...a })) : [];
  // a page whose whole name was typed comes first; others come behind what has the name
  const whole = places.filter((p) => p.name.toLowerCase() === lower);
  const list = [...whole, ...answers, ...places.filter((p) => !whole.includes(p))];
  const key = (a: { kind: string; page: string }) => `${a.kind} ${a.page}`;
  const first = list.length > 0 ? key(list[0]) : "";
  useEffect(() => setChosen(first), [first, late]);
  const leave = () => {
    setText("");
    setOpen(false);
    setHurried(false);
    input.current?.blur();
  };
  const to = (page: string) => {
    leave();
    go(page);
  };
  useEffect(() => {
    if (hurried && fresh && list.length > 0) to(list[0].page);
  }, [hurried, fresh]);
  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName);
      if (
        ((e.ctrlKey || e.metaKey) && e.key === "k") ||
        (e.key === "/" && !typing && !e.ctrlKey && !e.metaKey && !e.altKey)
      ) {
        e.preventDefault();
        input.current?.focus();
        input.current?.select();
      }
    };
    window.addEventListener("keydown", keys);
    return () => window.removeEventListener("keydown", keys);
  }, []);
  return (
    <Command
      label="Search"
      role="search"
      shouldFilter={false}
      value={chosen}
      onValueChange={setChosen}
      className="relative w-[380px] min-w-0 shrink"
      onKeyDown={(e) => {
        if (e.key === "Enter" && typed) {
          e.preventDefault();
          if (fresh) to((list.find((a) => key(a) === chosen) ?? list[0]).page);
          else setHurried(true);
        }
        if (e.key === "Escape") leave();
      }}
      onBlur={(e) => {
        if (!e.currentTarget.contains(e.relatedTarget)) setOpen(false);
      }}
    >
      <Command.Input
        ref={input}
        aria-label="Search"
        placeholder="Person, MAC, address, client"
        className="field bg-paper pr-8"
        maxLength={200}
        value={text}
        onFocus={() => setOpen(true)}
        onValueChange={(v) => {
          setText(v);
          setOpen(true);
          setHurried(false);
        }}
      />
      <kbd className="pointer-events-none absolute top-[6px] right-2 rounded-[3px] border border-hair bg-sheet px-[5px] font-mono text-[11px] leading-4 text-soft">
        /
      </kbd>
      <Command.List
        className={`absolute top-full right-0 left-0 z-40 mt-1 max-h-96 min-w-72 overflow-y-auto rounded border border-hair bg-sheet p-1 text-[13px] shadow-lg ${open && typed ? "" : "hidden"}`}
      >
        {list.map((a) => (
          <Command.Item
            key={key(a)}
            value={key(a)}
            onSelect={() => to(a.page)}
            onMouseDown={(e) => e.preventDefault()}
            className="flex cursor-pointer gap-2 rounded px-2 py-1 data-[selected=true]:bg-nav"
          >
            <span className="w-20 shrink-0 text-soft">{a.kind}</span>
            <span className="min-w-0 truncate">
              <b className="font-semibold">{a.name}</b> <span className="text-soft">{a.note}</span>
            </span>
          </Command.Item>
        ))}
      </Command.List>
    </Command>
  );
}
