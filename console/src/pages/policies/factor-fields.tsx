import { Link } from "react-router";
import { useObjects } from "../../api/hooks";
import type { Schema } from "../../api/client";
import { ConditionField } from "../../ui/condition";
import { MomentField } from "../../ui/moment";
import { TextField } from "../../ui/form";
import { Pick } from "../../ui/pick";

type Values = { secondFactor: string; factorRestMinutes: number; factor?: Schema["ConfigLaneFactor"] };

/** What a lane asks for beside the credential, of whom, and what becomes of people who have none. */
export function FactorFields({
  value,
  onChange,
  error,
}: {
  value: Values;
  onChange: (patch: Partial<Values>) => void;
  error: unknown;
}) {
  const passes = useObjects("passes").data?.items ?? [];
  const f = value.factor ?? {};
  const approves = value.secondFactor === "approval" || value.secondFactor === "any";
  const set = (patch: Partial<typeof f>) => onChange({ factor: { ...f, ...patch } });
  return (
    <>
      <Pick
        label="Second factor"
        field="secondFactor"
        value={value.secondFactor}
        onChange={(secondFactor) => onChange({ secondFactor })}
        error={error}
        options={[
          { value: "", label: "none is asked for" },
          { value: "any", label: "an approval on the phone, or a one-time code" },
          { value: "approval", label: "an approval on the phone" },
          { value: "code", label: "a one-time code" },
        ]}
        hint={
          value.secondFactor && (
            <>
              {value.secondFactor !== "approval" &&
                "PAP, EAP-GTC and TACACS+ dialogues can carry a code, EAP-TTLS and PEAP with these inside. "}
              {value.secondFactor !== "code" &&
                "With other methods the request waits for the approval, and no number can be shown. "}
              <Link className="underline" to="/factors">
                Who has one
              </Link>
            </>
          )
        }
      />
      {value.secondFactor && (
        <>
          <Pick
            label="Asked for over RADIUS"
            field="factor.ask"
            value={f.ask || "either"}
            onChange={(ask) => set({ ask: ask as typeof f.ask })}
            error={error}
            options={[
              {
                value: "either",
                label: approves ? "by challenge, which shows a number" : "behind the password, or else by challenge",
              },
              {
                value: "challenge",
                label: approves ? "by challenge; no code behind the password" : "always by challenge",
              },
              {
                value: "append",
                label: approves ? "without a challenge: the request waits" : "behind the password only",
              },
            ]}
            hint="A challenge asks whoever got the password wrong as well, so that nobody learns which of the two was wrong."
          />
          {f.ask !== "append" && (
            <TextField
              label="What the person reads"
              field="factor.text"
              hint={
                approves ? "One line with {number} in it. Empty: a text of ours." : "One line. Empty: One-time code:"
              }
              value={f.text ?? ""}
              onChange={(text) => set({ text })}
              error={error}
            />
          )}
          {approves && (
            <TextField
              label="A request waits for an approval (seconds)"
              field="factor.wait"
              type="number"
              min={0}
              max={100}
              hint="The device has to wait longer. 0: 30 seconds, or 10 where it can be asked again."
              value={String(f.wait ?? 0)}
              onChange={(v) => set({ wait: Number(v) })}
              error={error}
            />
          )}
          <ConditionField
            label="Asked of people where"
            field="factor.when"
            value={f.when ?? ""}
            onChange={(when) => set({ when })}
            error={error}
          />
          <TextField
            label="Do not ask for a code again within (minutes)"
            field="factorRestMinutes"
            type="number"
            hint="For the same client and the same device or address. 0 asks every time, including enable."
            value={String(value.factorRestMinutes)}
            onChange={(v) => onChange({ factorRestMinutes: Number(v) })}
            error={error}
          />
          <MomentField
            label="Admit people who have none until"
            field="factor.until"
            hint="They are reminded at each sign-in. Empty: not at all."
            value={f.until}
            onChange={(until) => set({ until })}
            error={error}
          />
          <Pick
            label="Pass of people who have none, afterwards"
            field="factor.pass"
            search="passes"
            value={f.pass ?? ""}
            onChange={(pass) => set({ pass })}
            error={error}
            options={[
              { value: "", label: "they are refused" },
              ...passes.map((p) => ({ value: p.name, label: p.name })),
            ]}
          />
        </>
      )}
    </>
  );
}
