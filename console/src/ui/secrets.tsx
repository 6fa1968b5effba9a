import { useEffect, useState } from "react";
import { saveFile } from "../api/file";
import { Button } from "./basic";
import { useHeld } from "./modal";

/** Secrets that were made, which are told only once. */
export function Secrets({ text }: { text: string }) {
  const [kept, setKept] = useState(false);
  const { hold } = useHeld();
  useEffect(() => {
    hold(!kept);
    return () => hold(false);
  }, [kept]);
  const count = text.trim().split("\n").length - 1;
  return (
    <div className="mt-3 border-l-[3px] border-brass bg-warn-bg px-3 py-2 text-[13px]">
      <b>
        {count.toLocaleString()} new {count === 1 ? "secret" : "secrets"}, shown only here.
      </b>{" "}
      Keep the file until they are set on the devices.
      <div className="mt-2">
        <Button
          primary={!kept}
          onClick={() => {
            saveFile("client-secrets.csv", new Blob([text], { type: "text/csv" }));
            setKept(true);
          }}
        >
          Save the file
        </Button>
      </div>
    </div>
  );
}
