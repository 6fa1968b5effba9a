import { Dialog } from "radix-ui";
import { createContext, useContext, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { Button } from "./basic";

const Held = createContext({ taken: () => {}, hold: (_: boolean) => {} });

/** For what stands in a dialog: taken tells it that what was typed is taken in, hold that it shows what is shown only
 * once. */
export const useHeld = () => useContext(Held);

/** A dialog. Escape and a click beside it close it; where something was typed that would be lost, they ask first. */
export function Modal({
  open,
  onClose,
  title,
  children,
  wide,
  kept,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  children: ReactNode;
  wide?: boolean;
  /** What was typed is not lost by closing: it is taken in already, or still there when it is opened again. */
  kept?: boolean;
}) {
  // The fields in which something was typed; those that are gone were taken in.
  const typed = useRef(new Set<Node>());
  const [asking, setAsking] = useState(false);
  useEffect(() => {
    typed.current.clear();
    setAsking(false);
  }, [open]);
  const holds = useRef(false);
  const held = useMemo(
    () => ({ taken: () => typed.current.clear(), hold: (on: boolean) => void (holds.current = on) }),
    [],
  );
  const lost = () => holds.current || (!kept && [...typed.current].some((field) => field.isConnected));
  const leave = () => (lost() ? setAsking(true) : onClose());
  // The browser asks in its own words before the tab is closed.
  useEffect(() => {
    if (!open) return;
    const ask = (e: BeforeUnloadEvent) => lost() && e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [open, kept]);
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && leave()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          onInput={(e) => e.target instanceof Node && typed.current.add(e.target)}
          onEscapeKeyDown={(e) => {
            // what is open inside takes the key first, such as suggestions under a field
            if (document.activeElement?.closest('[data-open], [aria-expanded="true"]')) e.preventDefault();
          }}
          className={`fixed top-[7vh] left-1/2 z-40 max-h-[86vh] -translate-x-1/2 overflow-y-auto rounded border border-hair bg-paper p-5 shadow-xl ${wide ? "w-[820px]" : "w-[540px]"} max-w-[96vw]`}
        >
          <Dialog.Title className="mb-3 text-[16px] font-bold">{title}</Dialog.Title>
          <Held value={held}>{children}</Held>
          {asking && (
            <div
              role="alert"
              className="sticky bottom-[-20px] -mx-5 mt-4 -mb-5 flex flex-wrap items-center gap-2 border-t border-hair bg-warn-bg px-5 py-3"
            >
              <b className="mr-auto">
                {holds.current
                  ? "Close without keeping what is shown only here?"
                  : "Close without saving what you typed?"}
              </b>
              <Button primary autoFocus onClick={() => setAsking(false)}>
                Stay here
              </Button>
              <Button danger onClick={onClose}>
                Close it
              </Button>
            </div>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
