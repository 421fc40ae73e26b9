/** How much of the library may be treated in a month, and how much was. */

import { useState } from "react";
import type { Library } from "../api/client";
import { useAllowance, useSetAllowance, type Allowance } from "../api/plans";
import { usePerson } from "../api/queries";
import { count, many } from "../look/words";
import { Card, Choice, Empty, ErrorNote, Figure, Mind, NumberInput, SaveBar, Shape } from "../parts/ui";

const UNITS = {
  megapixels: ["Megapixels", "what a treatment costs goes by them"],
  files: ["Files", "originals and renditions, each one"],
} as const;

export function AllowancePage({ library }: { library: Library }) {
  const allowance = useAllowance(library.slug);
  const service = usePerson().data?.service === true;
  if (allowance.isError) return <ErrorNote error={allowance.error} again={() => void allowance.refetch()} />;
  if (!allowance.data) return <Shape className="h-72" />;
  const { data } = allowance;
  return (
    <div className="grid items-start gap-5 lg:grid-cols-2">
      <ThisMonth allowance={data} />
      {service ? (
        <Settings key={`${data.unit} ${String(data.amount)}`} slug={library.slug} allowance={data} />
      ) : (
        <Card title="Who sets it">
          <p className="text-sm text-quiet">
            Administrators of the whole service set the allowance. Ask them for more.
          </p>
        </Card>
      )}
      <Months allowance={data} />
    </div>
  );
}

function ThisMonth({ allowance }: { allowance: Allowance }) {
  const { amount, used, unit } = allowance;
  const share = amount ? Math.min(100, (100 * used) / amount) : 0;
  const full = amount !== null && used >= amount;
  return (
    <Card
      title={monthName(allowance.month)}
      aside={`anew on ${dayName(allowance.resets_at, allowance.time_zone)}`}
    >
      <div className="mb-4 flex flex-wrap gap-x-10 gap-y-3">
        <Figure
          value={figure(used)}
          unit={unit}
          caption={amount === null ? "used; there is no limit" : `used of ${count(amount)}`}
          tone={full ? "clay" : "ink"}
        />
        {amount !== null && (
          <Figure
            value={figure(allowance.left ?? 0)}
            unit={unit}
            caption="left"
            tone={full ? "clay" : "leaf"}
          />
        )}
        {allowance.files_waiting > 0 && (
          <Figure value={count(allowance.files_waiting)} caption="files wait for it" tone="clay" />
        )}
      </div>
      {amount !== null && (
        <div
          role="img"
          aria-label={`${share.toFixed(0)} % of the allowance is used`}
          className="hollow mb-4 h-3.5 overflow-hidden rounded-[3px] border border-plum"
        >
          <div className={`h-full ${full ? "bg-clay" : "bg-plum"}`} style={{ width: `${share}%` }} />
        </div>
      )}
      {allowance.notice && <Mind>{allowance.notice}</Mind>}
      <p className="mt-4 text-sm text-quiet">
        A file counts once in a month, however often it is treated. A picture that has begun is finished
        whole; what failed is not counted, and putting back never waits.
      </p>
    </Card>
  );
}

function Settings({ slug, allowance }: { slug: string; allowance: Allowance }) {
  const held = { unit: allowance.unit, amount: allowance.amount };
  const [wanted, setWanted] = useState(held);
  const change = useSetAllowance(slug);
  return (
    <Card title="A month's allowance">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate(wanted);
        }}
      >
        <Choice
          legend="Counted in"
          name="unit"
          of={UNITS}
          chosen={wanted.unit}
          onChange={(unit) => setWanted({ ...wanted, unit })}
        />
        <div>
          <span className="mb-1 block text-sm font-semibold">So many a month</span>
          <NumberInput
            label="So many a month"
            min={1}
            max={1_000_000_000}
            unit={`${wanted.unit}; empty: no limit`}
            value={wanted.amount}
            onChange={(amount) => setWanted({ ...wanted, amount })}
          />
        </div>
        <SaveBar
          same={JSON.stringify(wanted) === JSON.stringify(held)}
          change={change}
          onDiscard={() => setWanted(held)}
        />
      </form>
    </Card>
  );
}

function Months({ allowance }: { allowance: Allowance }) {
  const largest = Math.max(
    1,
    ...allowance.months.map((one) => (allowance.unit === "files" ? one.files : one.megapixels)),
  );
  return (
    <Card title="Month by month" className="lg:col-span-2">
      {allowance.months.length === 0 && (
        <Empty title="Nothing was treated yet">Months appear here once a run has treated something.</Empty>
      )}
      <ul className="space-y-3">
        {allowance.months.map((one) => (
          <li key={one.month}>
            <div className="mb-0.5 flex flex-wrap justify-between gap-x-4 text-sm">
              <span className="font-semibold">{monthName(one.month)}</span>
              <span className="tabular-nums text-quiet">
                {many(one.files, "file")}, {figure(one.megapixels)} megapixels
              </span>
            </div>
            <div
              className="h-2 rounded-[3px] bg-plum"
              style={{
                width: `${Math.max(0.6, (100 * (allowance.unit === "files" ? one.files : one.megapixels)) / largest)}%`,
              }}
              aria-hidden
            />
          </li>
        ))}
      </ul>
    </Card>
  );
}

/** A number with no more digits than it needs. */
const figure = (value: number) =>
  value.toLocaleString("en-GB", { maximumFractionDigits: value < 100 ? 1 : 0 });

/** "November 2026" for 2026-11. */
export function monthName(month: string): string {
  return new Date(`${month}-15T12:00:00Z`).toLocaleDateString("en-GB", {
    month: "long",
    year: "numeric",
    timeZone: "UTC",
  });
}

const dayName = (moment: string, timeZone: string) =>
  new Date(moment).toLocaleDateString("en-GB", { day: "numeric", month: "long", timeZone });
