/** What happens by itself: new files, schedules, hours, and how backups are kept. */

import { useState } from "react";
import { Link } from "react-router";
import type { Library, Automation } from "../api/client";
import { useChangeAutomation } from "../api/queries";
import { addressOf } from "../pages";
import { Card, Choice, Field, INPUT, Mind, NumberInput, SaveBar, Tick } from "../parts/ui";

const MODES = {
  "at-once": ["At once", "served in light form within seconds, copies a little later"],
  background: ["In the background", "behind everything else"],
  "by-hand": ["By hand", "only listed, until somebody starts a run"],
} as const;

export function AutomationPage({ library }: { library: Library }) {
  const [automation, setAutomation] = useState(library.automation);
  const [discarded, setDiscarded] = useState(0); // the hours are written freely, and begin anew with each
  const change = useChangeAutomation(library.slug);
  const set = (part: Partial<Automation>) => setAutomation((now) => ({ ...now, ...part }));
  const same = JSON.stringify(automation) === JSON.stringify(library.automation);
  return (
    <form
      className="space-y-5"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate(automation);
      }}
    >
      <div className="grid gap-5 lg:grid-cols-2">
        <NewFiles library={library} automation={automation} set={set} />
        <Card title="When runs may work, and with how much of the machine">
          <div className="space-y-4">
            <Field
              label="Hours for bulk runs"
              hint="Such as 22:00-06:00, with commas between. Empty: always. Uploads and single pictures do not wait."
            >
              <input
                key={discarded}
                className={INPUT}
                defaultValue={automation.hours.join(", ")}
                onChange={(event) => set({ hours: event.target.value.split(/[\s,]+/).filter(Boolean) })}
              />
            </Field>
            <Field label="Time zone">
              <input
                className={INPUT}
                value={automation.time_zone}
                onChange={(event) => set({ time_zone: event.target.value })}
              />
            </Field>
            <Field label={`Share of the workers for bulk runs: ${automation.share} %`}>
              <input
                type="range"
                min={10}
                max={100}
                step={5}
                className="w-full accent-plum"
                value={automation.share}
                onChange={(event) => set({ share: Number(event.target.value) })}
              />
            </Field>
            <Field
              label="Survey by schedule"
              hint="Minute, hour, day, month, weekday: 0 * * * * is every hour. Empty: never."
            >
              <input
                className={`${INPUT} font-mono`}
                value={automation.survey_schedule ?? ""}
                placeholder="never"
                onChange={(event) => set({ survey_schedule: event.target.value || null })}
              />
            </Field>
            <Field label="Run by schedule" hint="30 2 * * * is every night at half past two.">
              <input
                className={`${INPUT} font-mono`}
                value={automation.run_schedule ?? ""}
                placeholder="never"
                onChange={(event) => set({ run_schedule: event.target.value || null })}
              />
            </Field>
          </div>
        </Card>
        <Card title="Backups" className="lg:col-span-2">
          <div className="grid gap-4 sm:grid-cols-2">
            <Tick
              label="Back up every file before it is changed"
              hint="Needed to put a file back, and to treat it again without a second loss."
              on={automation.backups}
              onChange={(backups) => set({ backups })}
            />
            <Tick
              label="Keep the time of the last change"
              hint="Otherwise treated files look new to caches and other tools, as they are."
              on={automation.keep_times}
              onChange={(keep_times) => set({ keep_times })}
            />
            <div>
              <span className="mb-1 block text-sm font-semibold">Delete backups after</span>
              <NumberInput
                label="Days to keep backups"
                min={1}
                unit="days; empty: keep them"
                value={automation.keep_backups_days}
                onChange={(keep_backups_days) => set({ keep_backups_days })}
              />
            </div>
            <div>
              <span className="mb-1 block text-sm font-semibold">
                Delete those of deleted and overwritten files after
              </span>
              <NumberInput
                label="Days to keep backups that lost their file"
                min={1}
                unit="days; empty: keep them"
                value={automation.keep_orphans_days ?? null}
                onChange={(keep_orphans_days) => set({ keep_orphans_days })}
              />
            </div>
            <div>
              <span className="mb-1 block text-sm font-semibold">Largest size of the store</span>
              <NumberInput
                label="Largest size of the backups, gigabytes"
                min={1}
                unit="GB; empty: no limit"
                value={automation.backups_limit == null ? null : automation.backups_limit / 1e9}
                onChange={(value) => set({ backups_limit: value == null ? null : Math.round(value * 1e9) })}
              />
            </div>
          </div>
          <div className="mt-4 space-y-2">
            {!automation.backups && (
              <Mind>
                Without backups nothing that is not exact can be put back or made again: a run at any level
                but Exact is final.
              </Mind>
            )}
            {automation.keep_backups_days != null && (
              <Mind>
                Backups older than {automation.keep_backups_days} days are deleted even when they are the only
                original of a treated file. It then stays as it is for ever.
              </Mind>
            )}
          </div>
        </Card>
      </div>
      <SaveBar
        same={same}
        change={change}
        onDiscard={() => {
          setAutomation(library.automation);
          setDiscarded(discarded + 1);
        }}
      />
    </form>
  );
}

function NewFiles({
  library,
  automation,
  set,
}: {
  library: Library;
  automation: Automation;
  set: (part: Partial<Automation>) => void;
}) {
  return (
    <Card title="New and changed files">
      <Choice
        legend="Treat them"
        name="mode"
        of={MODES}
        chosen={automation.new_files}
        onChange={(new_files) => set({ new_files })}
      />
      <div className="mt-4 space-y-4">
        <Tick
          label="Watch the folder"
          hint="Notice files as they are written. Our own writing is passed over."
          on={automation.watch}
          onChange={(watch) => set({ watch })}
        />
        <div>
          <span className="mb-1 block text-sm font-semibold">
            A file is whole when it has not changed for
          </span>
          <NumberInput
            label="Seconds to settle"
            unit="seconds"
            value={automation.settle_seconds}
            onChange={(settle_seconds) => set({ settle_seconds: settle_seconds ?? 2 })}
          />
        </div>
        <p className="text-sm text-quiet">
          The site can tell of uploads itself: see{" "}
          <Link className="underline" to={addressOf(library.slug, "keep/webhooks")}>
            Webhooks
          </Link>
          .
        </p>
      </div>
    </Card>
  );
}
