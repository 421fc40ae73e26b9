/** Files that seem to be renditions for what they show: looked for on wish, judged by eye, a folder at a time. */

import { previewUrl, type FolderProposal, type Library } from "../api/client";
import { useMay } from "../api/people";
import { underWay, useAnswerProposal, useJobs, useProposals, useStartJob } from "../api/queries";
import { count, many, when } from "../look/words";
import { Button, Card, ErrorNote } from "./ui";

export function Renditions({ library }: { library: Library }) {
  const may = useMay(library.slug);
  const proposals = useProposals(library.slug);
  const jobs = useJobs(library.slug, "resemblance");
  const start = useStartJob(library.slug, "resemblance");
  const latest = jobs.data?.[0];
  const looking = start.isPending || underWay(latest);
  const report = latest?.resemblance;
  const failed = start.error ?? proposals.error;
  return (
    <Card
      className="lg:col-span-3"
      title="Renditions by what they show"
      aside={
        may("treat") && (
          <Button busy={looking} onClick={() => start.mutate(undefined)}>
            {looking && report
              ? `Comparing, ${count(report.looked_at)} of ${many(report.files, "file")}`
              : "Compare the pictures"}
          </Button>
        )
      }
    >
      <p className="max-w-prose text-quiet">
        Where a site’s renditions have names that tell nothing, they count as pictures of their own. A
        comparison finds files that show the same as a larger one. Nothing changes until you say so.
      </p>
      {failed && <ErrorNote error={failed} />}
      {latest?.state === "failed" && (
        <ErrorNote error={new Error(`The last comparison failed: ${latest.reason}`)} />
      )}
      {latest?.state === "finished" && report && proposals.data?.length === 0 && (
        <p className="mt-2">
          {many(report.looked_at, "file")} compared {when(latest.finished_at)}: {count(report.found)} showed
          the same as a larger one. No folder waits for an answer.
        </p>
      )}
      <ul className="mt-3 space-y-5">
        {proposals.data?.map((folder) => (
          <Folder key={folder.folder} library={library} proposal={folder} answers={may("administer")} />
        ))}
      </ul>
    </Card>
  );
}

function Folder({
  library,
  proposal,
  answers,
}: {
  library: Library;
  proposal: FolderProposal;
  answers: boolean;
}) {
  const answer = useAnswerProposal(library.slug);
  const name = proposal.folder || "the top folder";
  const say = (accept: boolean) => answer.mutate({ folder: proposal.folder, accept });
  return (
    <li className="border-t border-line pt-4">
      <p>
        <code className="font-mono text-sm break-all">{name}</code>: {many(proposal.renditions, "file")}{" "}
        {proposal.renditions === 1 ? "shows" : "show"} the same as a larger one
        {proposal.others > 0 &&
          `, ${many(proposal.others, "file")} ${proposal.others === 1 ? "shows" : "show"} something else`}
        .
      </p>
      <ul className="mt-2 grid grid-cols-2 gap-x-5 gap-y-3 sm:grid-cols-3 lg:grid-cols-6">
        {proposal.examples.map((one) => (
          <li key={one.path} className="min-w-0 text-xs">
            <span className="flex items-end gap-1">
              <Shown number={one.original_id} wide />
              <Shown number={one.file_id} />
            </span>
            <span className="mt-1 block truncate font-mono" title={`${one.path}, of ${one.original}`}>
              {one.path.slice(one.path.lastIndexOf("/") + 1)}
            </span>
            <span className="block truncate text-quiet" title={one.original}>
              of {one.original.slice(one.original.lastIndexOf("/") + 1)}
            </span>
          </li>
        ))}
      </ul>
      {answer.isError && <ErrorNote error={answer.error} />}
      {answers && (
        <div className="mt-3 flex flex-wrap gap-2">
          <Button look="main" busy={answer.isPending} onClick={() => say(true)}>
            They are renditions
          </Button>
          <Button disabled={answer.isPending} onClick={() => say(false)}>
            They are pictures of their own
          </Button>
        </div>
      )}
    </li>
  );
}

function Shown({ number, wide = false }: { number?: number | null; wide?: boolean }) {
  const size = wide ? "h-16 w-24" : "h-10 w-14";
  if (number == null) return <span className={`${size} rounded-[3px] bg-sunken`} />;
  return (
    <img
      alt=""
      loading="lazy"
      className={`${size} rounded-[3px] bg-sunken object-contain`}
      src={previewUrl(number, 400, "proposed")}
    />
  );
}
