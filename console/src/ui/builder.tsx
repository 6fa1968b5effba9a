import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useState } from "react";
import { call, type Schema } from "../api/client";
import { useDebounced } from "../api/hooks";
import { Button, sentence } from "./basic";
import { fieldOf, useCompletions, useFields, type FieldInfo, type Tree } from "./fields";

const fresh: Tree = { op: "compare", field: "", operator: "is", values: [""] };

/** Every tree is edited as a group: all of, or any of. */
const asGroup = (t: Tree): Tree =>
  t.op === "and" || t.op === "or" ? t : { op: "and", parts: t.op === "always" ? [] : [t] };
/** What an edited group stands for. */
const asTree = (t: Tree): Tree =>
  t.op !== "and" && t.op !== "or"
    ? t
    : !t.parts?.length
      ? { op: "always" }
      : ({
          ...t,
          parts: t.parts.map((p) => (p.op === "not" ? { op: "not", parts: p.parts!.map(asTree) } : asTree(p))),
        } as Tree);

/** Puts a condition together without writing it. The text follows as soon as it is whole. */
export function Builder({
  id,
  tree,
  lane,
  onText,
}: {
  id: string;
  tree: Tree;
  lane: boolean;
  onText: (text: string) => void;
}) {
  const [root, setRoot] = useState(asGroup(tree));
  const fields = useFields(lane);
  const late = useDebounced(root, 150);
  const check = useQuery({
    queryKey: ["condition-tree", late, lane],
    queryFn: () => call<Schema["ConditionCheck"]>("POST", "/condition-check", { tree: asTree(late), lane }),
    placeholderData: (b) => b,
  });
  const text = check.data?.valid ? check.data.canonical : undefined;
  useEffect(() => {
    if (text !== undefined && !check.isPlaceholderData) onText(text === "always" ? "" : text);
  }, [text, check.isPlaceholderData]); // eslint-disable-line
  return (
    <div id={id} className="rounded border border-hair bg-sheet p-2">
      <Group tree={root} set={setRoot} fields={fields} depth={0} />
      <div className="mono mt-2 border-t border-hair pt-1 text-[12.5px]" role="status">
        {check.data?.error && !check.isPlaceholderData ? (
          <span className="text-out">
            {sentence(check.data.error.message)} {check.data.error.remedy}
          </span>
        ) : (
          check.data?.canonical
        )}
      </div>
    </div>
  );
}

function Group({
  tree,
  set,
  fields,
  depth,
}: {
  tree: Tree;
  set: (t: Tree) => void;
  fields: FieldInfo[];
  depth: number;
}) {
  const parts = tree.parts ?? [];
  const put = (i: number, part: Tree | null) =>
    set({ ...tree, parts: part ? parts.map((p, j) => (j === i ? part : p)) : parts.filter((_, j) => j !== i) });
  return (
    <div className={depth ? "border-l-2 border-hair pl-2" : ""}>
      {parts.length === 0 && <p className="text-[13px] text-soft">Matches everyone: no comparison yet.</p>}
      {parts.length > 1 && (
        <select
          aria-label="How the parts are joined"
          className="field mb-1 w-44 py-0.5 text-[13px]"
          value={tree.op}
          onChange={(e) => set({ ...tree, op: e.target.value as "and" | "or" })}
        >
          <option value="and">all of these</option>
          <option value="or">any of these</option>
        </select>
      )}
      {parts.map((part, i) => (
        <Part key={i} part={part} set={(p) => put(i, p)} fields={fields} depth={depth} />
      ))}
      <div className="mt-1 flex gap-1">
        <Button onClick={() => set({ ...tree, op: tree.op === "or" ? "or" : "and", parts: [...parts, fresh] })}>
          Add comparison
        </Button>
        {depth < 3 && (
          <Button
            onClick={() =>
              set({
                ...tree,
                op: tree.op === "or" ? "or" : "and",
                parts: [...parts, { op: tree.op === "or" ? "and" : "or", parts: [fresh, fresh] }],
              })
            }
          >
            Add nested parts
          </Button>
        )}
      </div>
    </div>
  );
}

function Part({
  part,
  set,
  fields,
  depth,
}: {
  part: Tree;
  set: (t: Tree | null) => void;
  fields: FieldInfo[];
  depth: number;
}) {
  const turned = part.op === "not";
  const inner = turned ? part.parts![0] : part;
  const put = (t: Tree) => set(turned ? { op: "not", parts: [t] } : t);
  return (
    <div className="mb-1 flex items-start gap-1.5">
      <label className="flex items-center gap-1 pt-1 text-[12.5px] text-soft">
        <input type="checkbox" checked={turned} onChange={() => set(turned ? inner : { op: "not", parts: [part] })} />
        not
      </label>
      <div className="grow">
        {inner.op === "compare" ? (
          <Comparison part={inner} set={put} fields={fields} />
        ) : (
          <Group tree={asGroup(inner)} set={put} fields={fields} depth={depth + 1} />
        )}
      </div>
      <Button aria-label="Remove this part" onClick={() => set(null)}>
        ×
      </Button>
    </div>
  );
}

function Comparison({ part, set, fields }: { part: Tree; set: (t: Tree) => void; fields: FieldInfo[] }) {
  const id = useId();
  const info = fieldOf(fields, part.field ?? "");
  const values = part.values ?? [];
  const several = part.operator === "in" || part.operator === "not in";
  const known = useCompletions(part.field ?? "", "");
  const operators = info?.operators ?? ["is"];
  const withField = (field: string) => {
    const allowed = fieldOf(fields, field)?.operators;
    set({ ...part, field, operator: allowed && !allowed.includes(part.operator ?? "") ? allowed[0] : part.operator });
  };
  const withOperator = (operator: string) => {
    const many = operator === "in" || operator === "not in";
    set({
      ...part,
      operator,
      values: operator === "exists" ? [] : many ? (values.length ? values : [""]) : [values[0] ?? ""],
    });
  };
  return (
    <div className="grid items-start sm:grid-cols-[minmax(120px,1fr)_104px_minmax(150px,1.6fr)] gap-1.5">
      <input
        aria-label="Field"
        list={id + "f"}
        className="field mono py-0.5"
        placeholder="group"
        title={info?.help}
        value={part.field}
        onChange={(e) => withField(e.target.value)}
      />
      <select
        aria-label="Operator"
        className="field py-0.5 text-[13px]"
        value={part.operator}
        onChange={(e) => withOperator(e.target.value)}
      >
        {operators.map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
      {part.operator === "exists" ? (
        <span />
      ) : (
        <div>
          {values.map((v, i) => (
            <div key={i} className="mb-0.5 flex gap-1">
              <input
                aria-label={several ? `Value ${i + 1}` : "Value"}
                list={id + "v"}
                className="field mono py-0.5"
                value={v}
                onChange={(e) => set({ ...part, values: values.map((x, j) => (j === i ? e.target.value : x)) })}
              />
              {several && values.length > 1 && (
                <Button
                  aria-label={`Remove value ${i + 1}`}
                  onClick={() => set({ ...part, values: values.filter((_, j) => j !== i) })}
                >
                  ×
                </Button>
              )}
            </div>
          ))}
          {several && <Button onClick={() => set({ ...part, values: [...values, ""] })}>Another value</Button>}
        </div>
      )}
      <datalist id={id + "f"}>
        {fields.map((f) => (
          <option key={f.name} value={f.name.replace("*", "")}>
            {f.help}
          </option>
        ))}
      </datalist>
      <datalist id={id + "v"}>
        {known.map((c) => (
          <option key={c.value} value={c.value}>
            {c.from}
          </option>
        ))}
      </datalist>
    </div>
  );
}
