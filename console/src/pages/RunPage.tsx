/** A run as it happens: how far, how fast, what was saved, each result as it lands, what failed. */

import { Pause, Play, RotateCcw, Square } from "lucide-react";
import { Link, useParams } from "react-router";
import type { Item, Library, Run } from "../api/client";
import { useMay } from "../api/people";
import { useChangeRun, useItems, useRetryItems, useRun } from "../api/queries";
import { useTitle } from "../look/title";
import { bytes, count, duration, many, points, rate, saved, when } from "../look/words";
import { Thumb } from "../parts/PictureGrid";
import { Slat } from "../parts/Slat";
import { Button, Card, Empty, ErrorNote, Figure, PageTitle, Shape, Tag } from "../parts/ui";

export function RunPage({ library }: { library: Library }) {
  const id = Number(useParams().run);
  const run = useRun(id);
  useTitle(`Run ${id}`, library.name);
  if (run.isPending) return <Shape className="h-96" />;
  if (run.isError) return <ErrorNote error={run.error} again={() => void run.refetch()} />;
  return <TheRun library={library} run={run.data} />;
}

const open = (run: Run) => run.state === "running" || run.state === "paused";

function TheRun({ library, run }: { library: Library; run: Run }) {
  return (
    <>
      <PageTitle aside={<Controls run={run} />}>
        Run {run.id} <Tag state={run.state} />
      </PageTitle>
      <div className="grid gap-5 lg:grid-cols-3">
        <Progress run={run} />
        {open(run) && <InHand run={run} />}
        {run.failed > 0 && <Failures library={library} run={run} />}
        <Landed library={library} run={run} />
      </div>
    </>
  );
}

function Controls({ run }: { run: Run }) {
  const change = useChangeRun(run.id);
  return (
    <>
      {change.isError && <ErrorNote error={change.error} />}
      {run.state === "running" && (
        <Button onClick={() => change.mutate("pause")} busy={change.isPending}>
          <Pause size={16} /> Pause
        </Button>
      )}
      {run.state === "paused" && (
        <Button look="main" onClick={() => change.mutate("resume")} busy={change.isPending}>
          <Play size={16} /> Go on
        </Button>
      )}
      {open(run) && (
        <Button look="danger" onClick={() => change.mutate("stop")} busy={change.isPending}>
          <Square size={16} /> Stop for good
        </Button>
      )}
    </>
  );
}

function Progress({ run }: { run: Run }) {
  const ended = run.files - run.left;
  const treating = run.kind === "treat";
  return (
    <Card
      className={open(run) ? "lg:col-span-2" : "lg:col-span-3"}
      title={
        treating
          ? `Treating at the level ${run.level}`
          : run.kind === "restore"
            ? "Putting originals back"
            : "Handing the library back"
      }
      aside={
        run.finished_at
          ? `${when(run.created_at)}, took ${duration(between(run.created_at, run.finished_at))}`
          : `since ${when(run.created_at)}`
      }
    >
      <div
        role="progressbar"
        aria-valuenow={ended}
        aria-valuemin={0}
        aria-valuemax={run.files}
        aria-label="Files done"
        className="h-9 overflow-hidden rounded-[3px] border border-plum bg-sunken"
      >
        <div
          className={`h-full transition-[width] duration-500 ${run.state === "paused" ? "bg-clay" : "bg-plum"}`}
          style={{ width: `${(100 * ended) / Math.max(run.files, 1)}%` }}
        />
      </div>
      <div className="mt-2 flex flex-wrap justify-between gap-x-4 text-sm text-quiet">
        <span>
          {count(ended)} of {many(run.files, "file")}: {count(run.done)} done, {count(run.passed)} left as
          they were, {count(run.failed)} failed
          {run.already > 0 && `; ${count(run.already)} more were treated before with the same settings`}
          {run.left_out > 0 && `; ${count(run.left_out)} are left alone by the recipe`}
          {run.elsewhere > 0 && `; ${count(run.elsewhere)} are left to another run`}
        </span>
        <span>
          {run.waits_for && `Waiting for ${run.waits_for}`}
          {run.state === "running" &&
            !run.waits_for &&
            run.megapixels_per_second != null &&
            `${rate(run.megapixels_per_second)} megapixels a second, about ${duration(run.seconds_left)} left`}
          {run.state === "running" && run.held_back && (
            <span className="block text-clay">Held back by {run.held_back}</span>
          )}
        </span>
      </div>
      {run.proof && <Proof run={run.id} proof={run.proof} />}
      {treating && (
        <>
          <div className="mt-5">
            <Slat
              size="middle"
              before={run.bytes_before}
              now={run.bytes_after}
              lightest={run.bytes_lightest}
            />
          </div>
          <div className="mt-4 grid grid-cols-2 gap-4 sm:grid-cols-4">
            <Figure value={bytes(run.bytes_before)} caption="the files done, before" />
            <Figure value={bytes(run.bytes_after)} caption="the same files now" />
            <Figure value={saved(run.bytes_before, run.bytes_after)} caption="off the files" tone="leaf" />
            <Figure
              value={saved(run.bytes_before, run.bytes_lightest)}
              caption="for a modern browser"
              tone="leaf"
            />
          </div>
        </>
      )}
    </Card>
  );
}

function InHand({ run }: { run: Run }) {
  return (
    <Card title="In hand">
      {run.in_hand.length > 0 ? (
        <ul className="space-y-1 font-mono text-xs">
          {run.in_hand.map((path) => (
            <li key={path} className="truncate" title={path}>
              {path}
            </li>
          ))}
        </ul>
      ) : (
        <p className="text-quiet">
          {run.state === "running" && run.waits_for
            ? "Nothing just now."
            : run.state === "running"
              ? "Waiting for a worker to take the next file."
              : "Paused. Files that were in hand have been finished."}
        </p>
      )}
    </Card>
  );
}

/** Failures by their code: what they have in common, and what can be done. */
const KINDS: Record<string, [string, string]> = {
  "not-a-picture": [
    "not a picture, whatever the name says",
    "Look at the file: it may be an error page that was saved. Upload it again, or delete it.",
  ],
  damaged: ["damaged or cut off", "Upload it again from where it came."],
  "too-large": [
    "larger than this machine takes",
    "Raise the limit in the service’s settings, or upload a smaller one.",
  ],
  "disk-full": ["no room on the disk", "Make room, then try again."],
  "changed-outside": ["changed by somebody meanwhile", "Survey the folder, then treat it again."],
  "in-use": ["open in another program", "Try again when it is closed."],
  gone: ["not there any more", "It was deleted or moved: survey the folder."],
  "no-permission": ["may not be written", "Give the service’s user the right to write there."],
  "read-only": ["on a volume that is read-only", "Mount it for writing, then try again."],
  "out-of-memory": ["more memory needed than a child may have", "Raise the limit, then try again."],
  "child-died": ["the process that treated it died", "Try again; should it die again, leave the file alone."],
  "backups-full": ["the backups are at their limit", "Raise the limit, or delete old backups."],
  "backup-missing": ["its backup was deleted meanwhile", "Try again: a new one is made."],
  "backup-damaged": ["its backup is damaged", "Check the library on Keep, and mend it from your own backup."],
  "name-taken": ["the name is somebody else’s", "Move that file, or leave this picture alone."],
};

interface Failure {
  key: string;
  what: string;
  advice: string | undefined;
  items: Item[];
}

/** Failures of one kind belong together; those of no known kind by their own words. */
export function byKind(items: Item[]): Failure[] {
  const found = new Map<string, Failure>();
  for (const item of items) {
    const kind = KINDS[item.code ?? ""];
    const key = (kind ? item.code : item.reason) ?? "";
    const group = found.get(key) ?? { key, what: kind?.[0] ?? key, advice: kind?.[1], items: [] };
    group.items.push(item);
    found.set(key, group);
  }
  return [...found.values()].sort((a, b) => b.items.length - a.items.length);
}

function Failures({ library, run }: { library: Library; run: Run }) {
  const failed = useItems(run.id, "failed");
  const change = useChangeRun(run.id);
  const retry = useRetryItems(run.id);
  const treats = useMay(library.slug)("treat") && run.state !== "stopped";
  const groups = byKind(failed.data?.rows ?? []);
  return (
    <Card
      className="border-clay lg:col-span-3"
      title={
        <span className="text-clay">
          {many(run.failed, "file")} failed, and {run.failed === 1 ? "stayed" : "all stayed"} as before
        </span>
      }
      aside={
        treats && (
          <Button onClick={() => change.mutate("retry")} busy={change.isPending}>
            <RotateCcw size={15} /> Try all again
          </Button>
        )
      }
    >
      {failed.isPending && <Shape />}
      {failed.isError && <ErrorNote error={failed.error} />}
      {retry.isError && <ErrorNote error={retry.error} />}
      <ul className="divide-y divide-line text-sm">
        {groups.map((group) => (
          <li key={group.key} className="py-3 first:pt-0">
            <div className="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
              <span>
                <span className="font-semibold text-clay">
                  {many(group.items.length, "file")}: {group.what}
                </span>
                {group.advice && <span className="block text-quiet">{group.advice}</span>}
              </span>
              {treats && groups.length > 1 && (
                <Button
                  look="quiet"
                  busy={retry.isPending}
                  onClick={() => retry.mutate(group.items.map((item) => item.id))}
                >
                  Try {group.items.length === 1 ? "it" : "these"} again
                </Button>
              )}
            </div>
            <Failed library={library} group={group} items={group.items.slice(0, FEW)} />
            {group.items.length > FEW && (
              <details>
                <summary className="cursor-pointer text-xs text-quiet">
                  and {many(group.items.length - FEW, "more file", "more files")}
                </summary>
                <Failed library={library} group={group} items={group.items.slice(FEW)} />
              </details>
            )}
          </li>
        ))}
      </ul>
    </Card>
  );
}

/** Files, each with its own reason where that says more than their kind. */
function Failed({ library, group, items }: { library: Library; group: Failure; items: Item[] }) {
  return (
    <ul className="mt-1 space-y-0.5">
      {items.map((item) => (
        <li key={item.id} className="grid gap-x-4 sm:grid-cols-[minmax(0,1fr)_minmax(0,1.4fr)]">
          <ItemLink library={library} item={item} />
          {item.reason !== group.what && <span className="text-xs text-quiet">{item.reason}</span>}
        </li>
      ))}
    </ul>
  );
}

const FEW = 5;

function Landed({ library, run }: { library: Library; run: Run }) {
  const items = useItems(run.id, "landed");
  if (items.isPending) return <Shape className="h-64 lg:col-span-3" />;
  if (items.isError)
    return (
      <div className="lg:col-span-3">
        <ErrorNote error={items.error} />
      </div>
    );
  if (items.data.rows.length === 0) {
    return (
      <div className="lg:col-span-3">
        <Empty title={run.files === 0 ? "There was nothing to do" : "Nothing has landed yet"}>
          {run.files === 0
            ? "Every file in scope was treated before with the same settings."
            : "Each result appears here as soon as it is in place."}
        </Empty>
      </div>
    );
  }
  return (
    <Card className="lg:col-span-3" title="Results" aside="the latest first">
      <ul className="grid grid-cols-2 gap-3 sm:grid-cols-3 lg:grid-cols-5">
        {items.data.rows.map((item) => (
          <Result key={item.id} library={library} run={run} item={item} />
        ))}
      </ul>
    </Card>
  );
}

/** A file as it landed: what it looks like, and what it weighs now in the outline of what it weighed. */
function Result({ library, run, item }: { library: Library; run: Run; item: Item }) {
  const made = item.state === "done" && run.kind === "treat";
  return (
    <li className="min-w-0 overflow-hidden rounded-[5px] border border-line text-sm">
      <Link to={`/l/${library.slug}/review/${item.picture_id}`} tabIndex={-1} aria-hidden>
        <Thumb
          picture={{
            original_id: item.file_id,
            bytes_now: item.bytes_after ?? 0,
            state: item.state === "failed" ? "unreadable" : "lighter",
          }}
          width={400}
          className="h-28"
        />
      </Link>
      <div className="space-y-1 px-2.5 py-2">
        <ItemLink library={library} item={item} />
        {made ? (
          <>
            <Slat
              before={item.bytes_before ?? 0}
              now={item.bytes_after ?? 0}
              lightest={item.bytes_lightest ?? undefined}
            />
            <div className="flex justify-between text-xs text-quiet">
              <span>{bytes(item.bytes_after)}</span>
              <span title="SSIMULACRA2 score">{points(item.score)}</span>
              <span className="font-semibold text-leaf">{saved(item.bytes_before, item.bytes_after)}</span>
            </div>
          </>
        ) : (
          <p className={`line-clamp-2 text-xs ${item.state === "failed" ? "text-clay" : "text-quiet"}`}>
            {item.reason ?? "put back"}
          </p>
        )}
      </div>
    </li>
  );
}

function ItemLink({ library, item }: { library: Library; item: Item }) {
  return (
    <Link
      to={`/l/${library.slug}/review/${item.picture_id}`}
      className="block min-w-0 truncate font-mono text-xs hover:text-plum hover:underline"
      title={item.path}
    >
      {item.path}
    </Link>
  );
}

function between(start: string, end: string): number {
  return (Date.parse(end) - Date.parse(start)) / 1000;
}

/** What was compared, byte for byte, at the end of a hand-back. */
function Proof({ run, proof }: { run: number; proof: Record<string, number | string> }) {
  const complete = proof.verdict === "complete";
  return (
    <div
      className={`mt-5 rounded-[5px] border px-4 py-3 ${complete ? "border-leaf text-leaf" : "border-clay bg-clay-soft text-clay"}`}
    >
      <p className="font-semibold">
        {complete ? "Handed back: every original is in its place." : "Not all could be handed back."}
      </p>
      <p className="text-sm">
        {count(Number(proof.originals_identical))} originals were read again and are byte for byte what they
        were, {count(Number(proof.originals_differing))} differ; {count(Number(proof.still_treated))} files
        are still treated, {count(Number(proof.copies_left))} files of ours are left.
      </p>
      <p className="mt-1 text-sm">
        <a
          className="underline underline-offset-2"
          href={`/api/v1/runs/${run}/checksums`}
          download={`run-${run}.sha256`}
        >
          Checksums
        </a>{" "}
        of every original that was put back, for <code>sha256sum --check</code> in the library’s folder.
      </p>
    </div>
  );
}
