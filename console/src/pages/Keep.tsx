/** What is kept safe: backups, checks against the records, putting back, handing back. */

import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import type { Backups, Job, Library } from "../api/client";
import {
  underWay,
  useBackups,
  useJobs,
  useReattach,
  useStartJob,
  useStartRun,
  useStopJob,
} from "../api/queries";
import { Orphans } from "../parts/Orphans";
import { bytes, count, many, when } from "../look/words";
import { Button, Card, Confirm, ErrorNote, Field, Figure, INPUT, Mind, Shape, Tag, Tick } from "../parts/ui";

export function Keep({ library }: { library: Library }) {
  return (
    <>
      {library.warnings.length > 0 && (
        <div className="mb-5 space-y-2">
          {library.warnings.map((one) => (
            <Mind key={one}>{one}</Mind>
          ))}
        </div>
      )}
      <div className="grid gap-5 lg:grid-cols-2">
        <Store library={library} />
        <Checks library={library} />
        <Orphans library={library} />
        <Folder library={library} />
        <PutBack library={library} />
        <HandBack library={library} />
      </div>
    </>
  );
}

function Store({ library }: { library: Library }) {
  const backups = useBackups(library.slug);
  const [asking, setAsking] = useState(false);
  return (
    <Card title="Backups">
      {backups.isPending && <Shape className="h-24" />}
      {backups.isError && <ErrorNote error={backups.error} again={() => void backups.refetch()} />}
      {backups.data && (
        <>
          <div className="grid gap-4 sm:grid-cols-3">
            <Figure
              value={bytes(backups.data.bytes_needed)}
              caption={`${many(backups.data.needed, "backup")}: the only original of a treated file`}
            />
            <Figure
              value={bytes(backups.data.bytes_orphaned)}
              caption={`${many(backups.data.orphaned, "backup")} of files that were deleted or overwritten`}
            />
            <Figure
              value={bytes(spareBytes(backups.data))}
              caption={`${many(spare(backups.data), "backup")} that nobody needs`}
            />
          </div>
          <p className="mt-4 text-sm text-quiet">
            In <code className="break-all font-mono text-xs">{backups.data.folder}</code>, by content, each
            stored once
            {backups.data.oldest_at && `; the oldest is of ${when(backups.data.oldest_at)}`}
            {backups.data.bytes_free != null && `; ${bytes(backups.data.bytes_free)} free on the disk`}.
          </p>
          <Button
            look="danger"
            className="mt-4"
            disabled={backups.data.backups === 0}
            onClick={() => setAsking(true)}
          >
            Delete backups …
          </Button>
          {asking && (
            <PruneDialog library={library} backups={backups.data} onClose={() => setAsking(false)} />
          )}
          <LatestPruning library={library} />
        </>
      )}
    </Card>
  );
}

/** How far the deleting of backups is, and what it came to. */
function LatestPruning({ library }: { library: Library }) {
  const latest = useJobs(library.slug, "pruning").data?.[0];
  if (!latest?.pruning) return null;
  const { backups, bytes: size, wanted, left } = latest.pruning;
  return (
    <p className="mt-3 text-sm text-quiet" role="status">
      {underWay(latest) && (
        <>
          Deleting: {count(backups)} of {many(wanted, "backup")} so far.
        </>
      )}
      {latest.state === "finished" && (
        <>
          On {when(latest.finished_at)} {many(backups, "backup")} were deleted, {bytes(size)}; {count(left)}{" "}
          stayed.
        </>
      )}
      {latest.state === "failed" && <span className="text-clay">The deleting failed: {latest.reason}</span>}
    </p>
  );
}

const spare = (found: Backups) => found.backups - found.needed - found.orphaned;
const spareBytes = (found: Backups) => found.bytes - found.bytes_needed - found.bytes_orphaned;

function PruneDialog({
  library,
  backups,
  onClose,
}: {
  library: Library;
  backups: Backups;
  onClose: () => void;
}) {
  const prune = useStartJob(library.slug, "pruning");
  const [days, setDays] = useState("");
  const [neededToo, setNeededToo] = useState(false);
  const [orphansToo, setOrphansToo] = useState(false);
  const confirm = () =>
    prune.mutate(
      {
        older_than_days: days === "" ? null : Number(days),
        needed_too: neededToo,
        orphans_too: orphansToo,
        confirm: library.slug,
      },
      { onSuccess: onClose },
    );
  return (
    <Confirm
      open
      onClose={onClose}
      title="Delete backups"
      word={library.slug}
      action="Delete"
      busy={prune.isPending}
      error={prune.error}
      onConfirm={confirm}
    >
      <Field label="Only those older than, in days" hint="Empty: of any age.">
        <input
          type="number"
          min={0}
          className={INPUT}
          value={days}
          onChange={(event) => setDays(event.target.value)}
        />
      </Field>
      <Tick
        label="Also those of files that were deleted, moved away or overwritten"
        on={orphansToo}
        onChange={setOrphansToo}
      />
      <Tick label="Also the only originals of treated files" on={neededToo} onChange={setNeededToo} />
      {orphansToo && (
        <Mind>
          {many(backups.orphaned, "picture")} ({bytes(backups.bytes_orphaned)}) that somebody deleted or
          overwrote could never be had again.
        </Mind>
      )}
      {neededToo ? (
        <Mind>
          Up to {many(backups.needed, "treated file")} ({bytes(backups.bytes_needed)} of originals) could
          never be put back or made again. This cannot be undone.
        </Mind>
      ) : (
        <p className="text-sm text-quiet">
          Up to {many(spare(backups), "backup")}, {bytes(spareBytes(backups))}, whose original stands in the
          library. This cannot be undone.
        </p>
      )}
    </Confirm>
  );
}

function Checks({ library }: { library: Library }) {
  const checks = useJobs(library.slug, "check");
  const start = useStartJob(library.slug, "check");
  const stop = useStopJob();
  const latest = checks.data?.[0];
  const busy = start.isPending || underWay(latest);
  return (
    <Card title="Is all as recorded?">
      <p>Reads every treated file, copy and backup again and compares it with the records, byte for byte.</p>
      <div className="mt-4 flex flex-wrap gap-2">
        <Button busy={busy} onClick={() => start.mutate({ mend: false })}>
          {busy ? "Reading …" : "Compare"}
        </Button>
        {busy && latest && (
          <Button busy={stop.isPending} onClick={() => stop.mutate(latest.id)}>
            Stop
          </Button>
        )}
        {latest?.state === "finished" && latest.check && latest.check.differences > latest.check.mended && (
          <Button look="main" onClick={() => start.mutate({ mend: true })}>
            Mend what can be mended
          </Button>
        )}
      </div>
      {start.isError && (
        <div className="mt-3">
          <ErrorNote error={start.error} />
        </div>
      )}
      {checks.isError && (
        <div className="mt-3">
          <ErrorNote error={checks.error} />
        </div>
      )}
      {latest?.check && <LatestCheck job={latest} check={latest.check} />}
    </Card>
  );
}

function LatestCheck({ job, check }: { job: Job; check: NonNullable<Job["check"]> }) {
  const read = `${count(check.files)} files, ${count(check.copies)} copies, ${count(check.backups)} backups`;
  return (
    <div className="mt-4 border-t border-line pt-3 text-sm">
      <p>
        <Tag state={job.state} /> {when(job.created_at)}: {read}
      </p>
      {job.reason && <p className="mt-1 text-clay">{job.reason}</p>}
      {job.state === "finished" && (
        <p className={check.differences ? "text-clay" : "text-leaf"}>
          {check.differences
            ? `${many(check.differences, "difference")}, ${count(check.mended)} mended`
            : "All as recorded."}
        </p>
      )}
      <ul className="mt-2 max-h-56 space-y-1 overflow-y-auto">
        {check.findings.map((one) => (
          <li key={`${one.what} ${one.path}`}>
            <span className="break-all font-mono text-xs">{one.path}</span>
            <span className="block text-quiet">
              {one.detail}
              {one.mended && <span className="text-leaf"> (mended)</span>}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Folder({ library }: { library: Library }) {
  const reattach = useReattach(library.slug);
  const [asking, setAsking] = useState(false);
  return (
    <Card title="The folder">
      <p>
        A folder that was changed holds an identity file, so that an unmounted volume is never mistaken for
        deleted pictures. Without it everything waits. Say so when the folder is the right one all the same,
        or when a part of it is gone for good.
      </p>
      <p className="mt-2 break-all font-mono text-xs text-quiet">{library.root}</p>
      {reattach.data && (
        <p className="mt-2 text-sm text-leaf">
          {reattach.data.identified && "The folder has its identity file again. "}
          {many(reattach.data.closed, "open change")} given up, {many(reattach.data.gone, "file")} counted as
          gone.
        </p>
      )}
      <Button className="mt-4" onClick={() => setAsking(true)}>
        This is the right folder …
      </Button>
      <Confirm
        open={asking}
        onClose={() => setAsking(false)}
        title="This is the right folder, as it is"
        word={library.slug}
        action="Recognise it"
        busy={reattach.isPending}
        error={reattach.error}
        onConfirm={() => reattach.mutate(library.slug, { onSuccess: () => setAsking(false) })}
      >
        <p>
          Files that are not there count as deleted from now on, and changes that could not be settled are
          given up. Nothing is deleted: the originals stay among the backups.
        </p>
      </Confirm>
    </Card>
  );
}

function PutBack({ library }: { library: Library }) {
  return (
    <Returning
      library={library}
      kind="restore"
      title="Put everything back"
      action="Put everything back"
      also={<p className="text-sm text-quiet">A new run undoes this. It takes as long as the first.</p>}
    >
      Every file that was made lighter gets exactly the bytes it had, and all{" "}
      {many(library.copies, "copy", "copies")} of ours are removed. A file that somebody else has changed
      since is left as it is, and listed.
    </Returning>
  );
}

function HandBack({ library }: { library: Library }) {
  return (
    <Returning
      library={library}
      kind="hand-back"
      title="Hand the library back"
      action="Hand it back"
      also={
        <p className="text-sm text-quiet">
          The backups stay until you delete them, so the proof can be repeated.
        </p>
      }
    >
      For when we part: everything is put back, then every original is read once more and compared with what
      it was, byte for byte. The run ends with the proof.
    </Returning>
  );
}

function Returning({
  library,
  kind,
  title,
  action,
  also,
  children,
}: {
  library: Library;
  kind: "restore" | "hand-back";
  title: string;
  action: string;
  also: ReactNode;
  children: ReactNode;
}) {
  const navigate = useNavigate();
  const start = useStartRun();
  const [asking, setAsking] = useState(false);
  const [overwrite, setOverwrite] = useState(false);
  const nothing = library.files_treated === 0;
  const begin = () =>
    start.mutate(
      { library: library.slug, kind, overwrite, confirm: library.slug },
      { onSuccess: (run) => void navigate(`/l/${library.slug}/treat/${run.id}`) },
    );
  return (
    <Card title={title}>
      <p>{children}</p>
      <Button look="danger" className="mt-4" disabled={nothing} onClick={() => setAsking(true)}>
        {action} …
      </Button>
      {nothing && (
        <p className="mt-2 text-sm text-quiet">Nothing has been treated, so there is nothing to restore.</p>
      )}
      <Confirm
        open={asking}
        onClose={() => setAsking(false)}
        title={title}
        word={library.slug}
        action={action}
        busy={start.isPending}
        error={start.error}
        onConfirm={begin}
      >
        <p>
          {many(library.pictures, "picture")} in {many(library.files, "file")} go back to{" "}
          {bytes(library.bytes_before)}; {many(library.copies, "copy", "copies")} are removed. The saving of{" "}
          {bytes(library.bytes_before - library.bytes_now)} is lost.
        </p>
        <Tick
          label="Also files that somebody changed since"
          hint="Their version is backed up first."
          on={overwrite}
          onChange={setOverwrite}
        />
        {also}
      </Confirm>
    </Card>
  );
}
