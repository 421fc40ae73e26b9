/** What happened in a library, and what of it since somebody was here. */

import { Link } from "react-router";
import type { Library, Run } from "../api/client";
import { useRuns } from "../api/queries";
import { useLastVisit } from "../look/visits";
import { many, saved, when } from "../look/words";
import { Slat } from "./Slat";
import { Card, ErrorNote } from "./ui";

const SHOWN = 4;

const DID: Record<Run["kind"], string> = {
  treat: "Made lighter",
  restore: "Put back",
  "hand-back": "Handed back",
};

export function LatelyCard({ library }: { library: Library }) {
  const runs = useRuns(library.slug);
  const visit = useLastVisit(library.slug);
  const ended = (runs.data ?? []).filter((run) => run.finished_at !== null && run.files > 0);
  const isNew = (run: Run) => visit !== null && Date.parse(run.finished_at ?? "") > visit;
  const news = ended.filter(isNew).length;
  if (runs.isSuccess && ended.length === 0) return null;
  return (
    <Card
      title="Lately"
      aside={visit !== null && (news > 0 ? `${many(news, "run")} since you were here` : "nothing new")}
    >
      {runs.isError && <ErrorNote error={runs.error} again={() => void runs.refetch()} />}
      <ol className="space-y-3 text-sm">
        {ended.slice(0, SHOWN).map((run) => (
          <li key={run.id}>
            <div className="flex items-baseline justify-between gap-3">
              <Link
                to={`/l/${library.slug}/treat/${run.id}`}
                className="font-semibold text-plum hover:underline"
              >
                {DID[run.kind]}: {many(run.done, "file")}
              </Link>
              <span className="whitespace-nowrap text-xs text-quiet">
                {isNew(run) && <span className="mr-1.5 font-semibold text-leaf">new</span>}
                {when(run.finished_at)}
              </span>
            </div>
            {run.kind === "treat" && run.bytes_before > 0 && (
              <div className="mt-1 flex items-center gap-3">
                <div className="min-w-0 flex-1">
                  <Slat before={run.bytes_before} now={run.bytes_after} lightest={run.bytes_lightest} />
                </div>
                <span className="font-semibold text-leaf">{saved(run.bytes_before, run.bytes_after)}</span>
              </div>
            )}
            {run.failed > 0 && <p className="text-xs text-clay">{many(run.failed, "file")} failed</p>}
          </li>
        ))}
      </ol>
    </Card>
  );
}
