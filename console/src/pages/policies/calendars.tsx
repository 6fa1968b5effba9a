import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useObject, useObjects } from "../../api/hooks";
import { Button, ButtonLink, Empty, Failure, PageHead, rowKeys, Trail, Verdict } from "../../ui/basic";
import { Editor, Problems } from "../../ui/editor";
import { Field, lines, LinesField, TextField } from "../../ui/form";

type Calendar = Schema["Calendar"];
type Span = Schema["CalendarSpan"];

const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
const spanText = (s: Span) => `${s.days.join(", ")} ${s.from}-${s.to}`;

export function CalendarsPage() {
  const list = useObjects("calendars", "", 30_000);
  const go = useNavigate();
  return (
    <>
      <PageHead title="Calendars" lead="hours that conditions refer to by name">
        <ButtonLink primary to="/calendars/new">
          Add calendar
        </ButtonLink>
      </PageHead>
      <Failure error={list.error} />
      {list.data?.items.length === 0 ? (
        <Empty title="No calendar yet">
          With one, a condition can say <code>time is office-hours</code>.
        </Empty>
      ) : (
        <table className="grid-table">
          <thead>
            <tr>
              <th>Name</th>
              <th>Zone</th>
              <th>Hours</th>
              <th>Holidays</th>
              <th>Now</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.items.map((c) => (
              <tr key={c.id} {...rowKeys(() => go(`/calendars/${c.id}`))}>
                <td className="font-semibold">{c.name}</td>
                <td>{c.zone}</td>
                <td className="mono">
                  {c.spans.map((s, i) => (
                    <div key={i}>{spanText(s)}</div>
                  ))}
                </td>
                <td>{c.holidays.length}</td>
                <td>{c.holds ? <Verdict kind="in">holds</Verdict> : <Verdict kind="out">does not hold</Verdict>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function CalendarPage() {
  const { id = "" } = useParams();
  const one = useObject("calendars", id);
  if (id === "new") return <CalendarForm />;
  if (!one.data)
    return (
      <>
        <PageHead title="Calendar" />
        <Failure error={one.error} />
      </>
    );
  return <CalendarForm key={one.data.id} calendar={one.data} />;
}

function CalendarForm({ calendar }: { calendar?: Calendar }) {
  const [form, setForm] = useState({
    name: calendar?.name ?? "",
    zone: calendar?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
    note: calendar?.note ?? "",
    spans: calendar?.spans ?? [{ days: days.slice(0, 5), from: "08:00", to: "18:00" }],
  });
  const [holidays, setHolidays] = useState((calendar?.holidays ?? []).map((h) => `${h.date} ${h.name ?? ""}`.trim()));
  const set = (patch: Partial<typeof form>) => setForm({ ...form, ...patch });
  const span = (i: number, patch: Partial<Span>) =>
    set({ spans: form.spans.map((s, j) => (j === i ? { ...s, ...patch } : s)) });
  const body = () => ({
    ...form,
    holidays: lines(holidays).map((h) => ({ date: h.split(/\s+/)[0], name: h.split(/\s+/).slice(1).join(" ") })),
  });
  return (
    <div className="max-w-[720px]">
      <Trail to="/calendars" of="Calendars">
        {calendar?.name ?? "new"}
      </Trail>
      <PageHead
        title={calendar?.name ?? "Add calendar"}
        lead={
          calendar && (
            <>
              in conditions: <code>time is {calendar.name}</code>
            </>
          )
        }
      />
      {calendar && <Problems list={calendar.problems} />}
      <Editor kind="calendars" noun="calendar" object={calendar} body={body}>
        {(error) => (
          <>
            <TextField label="Name" field="name" value={form.name} onChange={(name) => set({ name })} error={error} />
            <TextField
              label="Time zone"
              field="zone"
              mono
              hint="From the time zone database, such as Europe/Lisbon."
              value={form.zone}
              onChange={(zone) => set({ zone })}
              error={error}
              list="zones"
            />
            <datalist id="zones">
              {Intl.supportedValuesOf("timeZone").map((z) => (
                <option key={z}>{z}</option>
              ))}
            </datalist>
            <Field
              label="Hours"
              name="spans"
              error={error}
              hint="A span that ends before it begins ends on the next day; 24:00 is the end of the day."
            >
              {(p) => (
                <div id={p.id}>
                  {form.spans.map((s, i) => (
                    <div key={i} className="mb-1 flex flex-wrap items-center gap-2">
                      <span role="group" aria-label={`Days of span ${i + 1}`} className="flex flex-wrap gap-0.5">
                        {days.map((d) => (
                          <button
                            key={d}
                            type="button"
                            aria-pressed={s.days.includes(d)}
                            onClick={() =>
                              span(i, {
                                days: days.filter((x) => (x === d ? !s.days.includes(x) : s.days.includes(x))),
                              })
                            }
                            className={`rounded-[3px] border px-1.5 py-0.5 text-[12px] ${s.days.includes(d) ? "border-brass bg-brass-fill font-semibold text-on-brass" : "border-hair text-soft"}`}
                          >
                            {d}
                          </button>
                        ))}
                      </span>
                      <input
                        aria-label={`Beginning of span ${i + 1}`}
                        className="field mono w-20"
                        value={s.from}
                        onChange={(e) => span(i, { from: e.target.value })}
                      />
                      <span>to</span>
                      <input
                        aria-label={`End of span ${i + 1}`}
                        className="field mono w-20"
                        value={s.to}
                        onChange={(e) => span(i, { to: e.target.value })}
                      />
                      <Button
                        aria-label={`Remove span ${i + 1}`}
                        onClick={() => set({ spans: form.spans.filter((_, j) => j !== i) })}
                      >
                        ×
                      </Button>
                    </div>
                  ))}
                  <Button
                    onClick={() =>
                      set({ spans: [...form.spans, { days: ["sat", "sun"], from: "08:00", to: "18:00" }] })
                    }
                  >
                    Add hours
                  </Button>
                </div>
              )}
            </Field>
            <LinesField
              label="Holidays"
              field="holidays"
              rows={3}
              hint="One per line, such as 2026-12-25 Christmas. No hours begin on these days."
              value={holidays}
              onChange={setHolidays}
              error={error}
            />
            <TextField label="Note" value={form.note} onChange={(note) => set({ note })} />
          </>
        )}
      </Editor>
    </div>
  );
}
