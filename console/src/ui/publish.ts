import { useEffect } from "react";

const asked = new EventTarget();

/** Opens the dialog that publishes the draft, from wherever something was saved into it. */
export const askToPublish = () => asked.dispatchEvent(new Event("publish"));

export function useAskedToPublish(open: () => void) {
  useEffect(() => {
    asked.addEventListener("publish", open);
    return () => asked.removeEventListener("publish", open);
  });
}
