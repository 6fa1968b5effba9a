import { useCallback, useEffect, useMemo, useRef } from "react";
import { useBlocker } from "react-router";
import { Button } from "./basic";
import { Modal } from "./modal";

/** Notes whether a form holds anything else than before it was touched, so that it is not left by mistake. */
export function useUnsaved(body: () => unknown) {
  const latest = useRef(body);
  latest.current = body;
  const before = useRef<string>(undefined);
  const [touch, saved, dirty] = useMemo(() => {
    const text = () => JSON.stringify(latest.current());
    return [
      () => void (before.current ??= text()),
      () => void (before.current = undefined),
      () => before.current !== undefined && before.current !== text(),
    ];
  }, []);
  // Each of these comes before the change that it brings.
  const form = { onPointerDownCapture: touch, onKeyDownCapture: touch, onFocusCapture: touch, onDropCapture: touch };
  return { dirty, saved, form };
}

/** Asks before a form is left in which something was typed and not saved: for another page, or with the whole tab. */
export function Guard({ of }: { of: ReturnType<typeof useUnsaved> }) {
  const { dirty } = of;
  const blocker = useBlocker(
    useCallback(({ currentLocation, nextLocation }) => {
      return dirty() && currentLocation.pathname !== nextLocation.pathname;
    }, []),
  );
  useEffect(() => {
    const ask = (e: BeforeUnloadEvent) => {
      if (dirty()) e.preventDefault();
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
