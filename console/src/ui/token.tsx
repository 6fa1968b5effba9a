import { useState } from "react";

const key = (id: string) => "token-" + id;

/** Keeps a token that was just made for the page of its object, which opens next. */
export const keepToken = (id: string, token?: string) => {
  if (token) sessionStorage.setItem(key(id), token);
};

/** The token that was just made for an object, told once. */
export function useToken(id: string | undefined) {
  const [token, setToken] = useState(() => {
    const kept = id ? (sessionStorage.getItem(key(id)) ?? "") : "";
    if (id) sessionStorage.removeItem(key(id));
    return kept;
  });
  return { token, setToken };
}

/** A token that was made, which is told only once. */
export function Token({ text, use }: { text: string; use: string }) {
  if (!text) return null;
  return (
    <div role="status" className="mb-4 border-l-[3px] border-brass bg-warn-bg px-3 py-2 text-[13px]">
      <b>A new token, shown only here.</b> {use}
      <div className="mono mt-1 break-all select-all">{text}</div>
    </div>
  );
}
