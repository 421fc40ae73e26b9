/** Starting a run, and the runs there have been. */

import { useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Library, Run } from "../api/client";
import { useFolders, useJobs, useRuns, useStartRun } from "../api/queries";
import { bytes, count, duration, many, saved, when, type LevelName } from "../look/words";
import { LevelChoice } from "../parts/LevelChoice";
import { Slat } from "../parts/Slat";
import { Button, Card, Empty, ErrorNote, Field, Shape, Tag } from "../parts/ui";
import { Select } from "../parts/Select";

export function Treat({ library }: { library: Library }) {
  return (
    <>
      <div className="grid gap-5 lg:grid-cols-[minmax(0,26rem)_minmax(0,1fr)]">
        <StartRun library={library} />
        <Runs library={library} />
      </div>
    </>
  );
}

function StartRun({ library }: { library: Library }) {
  const navigate = useNavigate();
  const folders = useFolders(library.slug);
  const start = useStartRun();
  const [level, setLevel] = useState<LevelName>(library.level);
  const [copies, setCopies] = useState(library.copy_formats);
  const [folder, setFolder] = useState("");
  const begin = () =>
    start.mutate(
      { library: library.slug, kind: "treat", level, copies, scope: folder ? { folder } : {}, force: false },
      { onSuccess: (run) => void navigate(`/l/${library.slug}/treat/${run.id}`) },
    );
  return (
    <Card title="Start a run">
      <div className="space-y-4">
        <LevelChoice level={level} onLevel={setLevel} copies={copies} onCopies={setCopies} />
        <Field
          label="Which pictures"
          hint="Originals and renditions alike. Files already treated with the same settings are passed over."
        >
          <Select
            label="Which pictures"
            className="w-full"
            value={folder}
            options={[
              { value: "", name: `The whole library, ${many(library.pictures, "picture")}` },
              ...(folders.data ?? []).filter(Boolean).map((one) => ({ value: one, name: one })),
            ]}
            onChange={(to) => setFolder(to)}
          />
        </Field>
        {start.isError && <ErrorNote error={start.error} />}
        {level === library.level && <Length library={library} />}
        <Button look="main" className="w-full" busy={start.isPending} onClick={begin}>
          Start the run
        </Button>
        <p className="text-sm text-quiet">
          {library.automation.backups
            ? "Every file is backed up before it is replaced and can be put back. "
            : "Backups are off: files that are changed with loss can never be restored. "}
          The run goes on when you close this page.
        </p>
      </div>
    </Card>
  );
}

/** How long the whole library takes, as far as a forecast has said so. */
function Length({ library }: { library: Library }) {
  const forecast = useJobs(library.slug, "forecast").data?.find(
    (job) => job.forecast?.outlook?.run_seconds != null,
  );
  const seconds = forecast?.forecast?.outlook?.run_seconds;
  return (
    <p className="text-sm text-quiet">
      {seconds == null ? (
        <>
          How long will it take?{" "}
          <Link className="font-semibold text-plum hover:underline" to={`/l/${library.slug}`}>
            Forecast it first
          </Link>
          .
        </>
      ) : (
        <>
          The whole library takes about <strong className="text-ink">{duration(seconds)}</strong> on this
          machine, by the forecast of {when(forecast?.created_at)}.
        </>
      )}
    </p>
  );
}

function Runs({ library }: { library: Library }) {
  const runs = useRuns(library.slug);
  if (runs.isPending) return <Shape className="h-64" />;
  if (runs.isError) return <ErrorNote error={runs.error} again={() => void runs.refetch()} />;
  if (runs.data.length === 0) {
    return <Empty title="No run yet">Start one on this page. Nothing changes before that.</Empty>;
  }
  return (
    <Card title="Runs" aside="the latest first">
      <ul className="divide-y divide-line">
        {runs.data.map((run) => (
          <li key={run.id}>
            <RunRow library={library} run={run} />
          </li>
        ))}
      </ul>
    </Card>
  );
}

const FROM: Record<string, string> = { person: "", arrival: ", new files", schedule: ", by schedule" };

function RunRow({ library, run }: { library: Library; run: Run }) {
  return (
    <Link
      to={`/l/${library.slug}/treat/${run.id}`}
      className="group grid gap-x-4 gap-y-1 py-3 sm:grid-cols-[1fr_14rem]"
    >
      <div>
        <span className="font-semibold group-hover:text-plum group-hover:underline">
          Run {run.id}:{" "}
          {run.kind === "treat" ? `treat, ${run.level}` : run.kind === "restore" ? "restore" : "hand back"}
        </span>{" "}
        <Tag state={run.state} />
        <div className="text-sm text-quiet">
          {when(run.created_at)}
          {FROM[run.origin]}, {many(run.files, "file")}
          {run.failed > 0 && <span className="text-clay">, {count(run.failed)} failed</span>}
          {run.scope.folder && `, folder ${run.scope.folder}`}
          {run.scope.pictures && `, ${many(run.scope.pictures.length, "chosen picture")}`}
        </div>
      </div>
      {run.kind === "treat" && run.bytes_before > 0 && (
        <div className="text-right text-sm">
          <Slat before={run.bytes_before} now={run.bytes_after} lightest={run.bytes_lightest} />
          <span className="text-quiet">
            {bytes(run.bytes_before)} to {bytes(run.bytes_after)}{" "}
          </span>
          <span className="font-semibold text-leaf">{saved(run.bytes_before, run.bytes_after)}</span>
        </div>
      )}
    </Link>
  );
}
