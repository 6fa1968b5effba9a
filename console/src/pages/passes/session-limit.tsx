import { NumberField } from "../../ui/form";
import { Pick } from "../../ui/pick";

type Limit = { maxSessions: number; atLimit: "" | "refuse" | "end-oldest" };

/** How many sessions with a pass one person may have at once, and what happens to one more. */
export function SessionLimit({
  value,
  set,
  error,
}: {
  value: Limit;
  set: (patch: Partial<Limit>) => void;
  error: unknown;
}) {
  return (
    <>
      <NumberField
        label="Sessions of one person at once"
        field="maxSessions"
        min={0}
        hint="0 is any number. Needs accounting."
        value={value.maxSessions}
        onChange={(v) => set({ maxSessions: v })}
        error={error}
      />
      <Pick
        label="One more than that"
        field="atLimit"
        value={value.atLimit}
        onChange={(v) => set({ atLimit: v as Limit["atLimit"] })}
        error={error}
        options={[
          { value: "", label: "is refused" },
          { value: "end-oldest", label: "ends the oldest" },
        ]}
      />
    </>
  );
}
