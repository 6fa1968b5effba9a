import { useCallback, useEffect, useRef } from "react";
import { useBlocker } from "react-router";
import { Button } from "./basic";
import { Modal } from "./form";

/** Notes what is typed into a form, so that it is not left by mistake. */
export function useUnsaved() {
  const dirty = useRef(false);
  const on = useCallback(() => {
    dirty.current = true;
  }, []);
  const saved = useCallback(() => {
    dirty.current = false;
  }, []);
  return { dirty, saved, form: { onInput: on, onChange: on } };
}

/** Asks before a form is left in which something was typed and not saved: for another page, or with the whole tab. */
export function Guard({ of }: { of: ReturnType<typeof useUnsaved> }) {
  const { dirty } = of;
  const blocker = useBlocker(
    useCallback(({ currentLocation, nextLocation }) => {
      return dirty.current && currentLocation.pathname !== nextLocation.pathname;
    }, []),
  );
  useEffect(() => {
    const ask = (e: BeforeUnloadEvent) => {
      if (dirty.current) e.preventDefault();
    };
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, []);
  return (
    <Modal open={blocker.state === "blocked"} onClose={() => blocker.reset?.()} title="Leave without saving?">
      <p className="mb-4">What you have typed here is not saved yet.</p>
      <div className="flex gap-2">
        <Button primary onClick={() => blocker.reset?.()}>
          Stay here
        </Button>
        <Button danger onClick={() => blocker.proceed?.()}>
          Leave it
        </Button>
      </div>
    </Modal>
  );
}
