/** What is there, what is treated, what was saved, what to do next. */

import { ArrowRight } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Library, Savings, SlatFigures } from "../api/client";
import { useMay } from "../api/people";
import { underWay, useRuns, useSavings, useStartJob } from "../api/queries";
import { bytes, count, many, saved, when } from "../look/words";
import { addressOf } from "../pages";
import { FirstSteps } from "../parts/FirstSteps";
import { ForecastCard } from "../parts/ForecastCard";
import { LatelyCard } from "../parts/LatelyCard";
import { MosaicCard } from "../parts/Mosaic";
import { Renditions } from "../parts/Renditions";
import { ScoresCard } from "../parts/ScoresCard";
import { Slat } from "../parts/Slat";
import { Button, Card, Empty, ErrorNote, Figure, Shape } from "../parts/ui";

export function Look({ library }: { library: Library }) {
  const survey = useStartJob(library.slug, "survey");
  const savings = useSavings(library.slug);
  const surveying = underWay(library.last_survey);
  const treats = useMay(library.slug)("treat");
  return (
    <>
      <Above
        name={library.name}
        aside={
          treats && (
            <Button onClick={() => survey.mutate(undefined)} busy={survey.isPending || surveying}>
              {surveying
                ? `Surveying, ${many(library.last_survey?.survey?.files_seen ?? 0, "file")} seen`
                : "Survey again"}
            </Button>
          )
        }
      />
      {survey.isError && (
        <div className="mb-4">
          <ErrorNote error={survey.error} />
        </div>
      )}
      {library.last_survey?.state === "failed" && (
        <div className="mb-4">
          <ErrorNote error={new Error(`The last survey failed: ${library.last_survey.reason}`)} />
        </div>
      )}
      {library.files === 0 ? (
        <Empty
          title={surveying ? "Looking through the folder" : "No pictures yet"}
          action={
            treats && (
              <Button look="main" busy={surveying} onClick={() => survey.mutate(undefined)}>
                Survey the folder
              </Button>
            )
          }
        >
          The folder <code className="font-mono text-sm">{library.root}</code> has not shown any pictures. A
          survey touches nothing: it lists the files and tells what each is.
        </Empty>
      ) : (
        <div className="grid gap-5 lg:grid-cols-3">
          <FirstSteps library={library} sent={savings.data?.sent} />
          <Weight library={library} sent={savings.data?.sent} />
          {treats && <Next library={library} />}
          <MosaicCard library={library} />
          {treats && <ForecastCard library={library} />}
          <LatelyCard library={library} />
          {savings.data && <ScoresCard scores={savings.data.scores} slug={library.slug} />}
          {savings.isPending && <Shape className="h-64 lg:col-span-3" />}
          {savings.isError && (
            <div className="lg:col-span-3">
              <ErrorNote error={savings.error} again={() => void savings.refetch()} />
            </div>
          )}
          {savings.data && <Crates savings={savings.data} />}
          <LastSurvey library={library} />
          <Renditions library={library} />
        </div>
      )}
    </>
  );
}

function Above({ name, aside }: { name: string; aside: ReactNode }) {
  return (
    <div className="mb-4 flex flex-wrap items-center justify-between gap-3">
      <h2 className="text-xl">{name}</h2>
      {aside}
    </div>
  );
}

function Weight({ library, sent }: { library: Library; sent: Savings["sent"] | undefined }) {
  const treated = library.files_treated > 0;
  return (
    <Card
      className="lg:col-span-2"
      title="The whole library"
      aside={`${many(library.pictures, "picture")} in ${many(library.files, "file")}`}
    >
      <Slat
        size="tall"
        before={library.bytes_before}
        now={library.bytes_now}
        lightest={library.bytes_lightest}
      />
      <div className="mt-2 flex justify-between text-xs text-quiet">
        <span>
          {treated ? "filled: what the files weigh now" : "what the files weigh"}
          {library.bytes_lightest < library.bytes_now && "; notch: what a modern browser fetches"}
        </span>
        <span>{bytes(library.bytes_before)}</span>
      </div>
      <div className="mt-5 grid grid-cols-2 gap-4 sm:grid-cols-4">
        <Figure value={bytes(library.bytes_before)} caption="when first seen" />
        <Figure value={bytes(library.bytes_now)} caption="the same files now" />
        <Figure
          value={saved(library.bytes_before, library.bytes_now)}
          caption="off the files"
          tone={treated ? "leaf" : "ink"}
        />
        <Figure
          value={saved(library.bytes_before, library.bytes_lightest)}
          caption="for a modern browser"
          tone={treated ? "leaf" : "ink"}
        />
      </div>
      {sent && sent.requests > 0 && (
        <p className="mt-4 text-sm text-quiet">
          In 30 days visitors were sent{" "}
          <Link className="font-semibold text-plum" to={addressOf(library.slug, "serve")}>
            {bytes(sent.bytes)}
          </Link>{" "}
          instead of {bytes(sent.bytes_before)},{" "}
          <span className="text-leaf">{saved(sent.bytes_before, sent.bytes)}</span>.
        </p>
      )}
    </Card>
  );
}

function Next({ library }: { library: Library }) {
  const runs = useRuns(library.slug);
  const open = runs.data?.find((run) => run.state === "running" || run.state === "paused");
  const trouble = library.files_unreadable + library.files_failed;
  const base = `/l/${library.slug}`;
  return (
    <Card title="What to do next">
      <ul className="space-y-3">
        {open && (
          <Step to={`${base}/treat/${open.id}`} lead={`Run ${open.id} is ${open.state}`}>
            {many(open.left, "file")} left
          </Step>
        )}
        {!open && library.files_new > 0 && (
          <Step to={`${base}/treat`} lead={`Treat ${many(library.files_new, "new file")}`}>
            at the level {library.level}, or another
          </Step>
        )}
        {library.files_treated > 0 && (
          <Step to={`${base}/review?sort=worst`} lead="Look at the worst places">
            the pictures that lost most in one place
          </Step>
        )}
        {trouble > 0 && (
          <Step
            to={`${base}/review?state=unreadable`}
            lead={`${many(trouble, "file")} cannot be treated`}
            clay
          >
            each with its reason
          </Step>
        )}
        {library.bytes_backups > 0 && (
          <Step to={`${base}/keep`} lead={`Backups hold ${bytes(library.bytes_backups)}`}>
            every original can be put back
          </Step>
        )}
      </ul>
    </Card>
  );
}

function Step({
  to,
  lead,
  children,
  clay = false,
}: {
  to: string;
  lead: string;
  children: ReactNode;
  clay?: boolean;
}) {
  return (
    <li>
      <Link to={to} className="group flex items-start gap-2">
        <ArrowRight
          size={17}
          className={`mt-1 shrink-0 transition group-hover:translate-x-0.5 ${clay ? "text-clay" : "text-plum"}`}
        />
        <span>
          <span className={`font-semibold group-hover:underline ${clay ? "text-clay" : "text-plum"}`}>
            {lead}
          </span>
          <span className="block text-sm text-quiet">{children}</span>
        </span>
      </Link>
    </li>
  );
}

function Crates({ savings }: { savings: Savings }) {
  return (
    <>
      {savings.by_month.length > 1 && (
        <Crate title="By month of treatment" slats={[...savings.by_month].reverse()} inOrder />
      )}
      <Crate title="By format" slats={savings.by_format} byFormat />
      <Crate title="By folder" slats={savings.by_folder} />
      <Crate title="Originals and renditions" slats={savings.by_role} />
    </>
  );
}

const SHOWN = 8;

function Crate({
  title,
  slats,
  byFormat = false,
  inOrder = false,
}: {
  title: string;
  slats: SlatFigures[];
  byFormat?: boolean;
  inOrder?: boolean;
}) {
  const heaviest = inOrder ? slats : [...slats].sort((a, b) => b.bytes_before - a.bytes_before);
  const scale = Math.max(1, ...slats.map((slat) => slat.bytes_before));
  return (
    <Card title={title}>
      <ul className="space-y-3">
        {heaviest.slice(0, SHOWN).map((slat) => (
          <li key={slat.name}>
            <div className="mb-1 flex items-baseline justify-between gap-3 text-sm">
              <span className="min-w-0 truncate" title={slat.name}>
                {slat.name || "top folder"} <span className="text-quiet">{many(slat.files, "file")}</span>
              </span>
              <span className="whitespace-nowrap text-quiet">
                {bytes(slat.bytes_now)}{" "}
                <span className="font-semibold text-leaf">{saved(slat.bytes_before, slat.bytes_now)}</span>
              </span>
            </div>
            <Slat
              before={slat.bytes_before}
              now={slat.bytes_now}
              lightest={slat.bytes_lightest}
              scale={scale}
              format={byFormat ? slat.name : undefined}
            />
          </li>
        ))}
      </ul>
      {heaviest.length > SHOWN && (
        <p className="mt-3 text-xs text-quiet">
          and {heaviest.length - SHOWN} {inOrder ? "earlier" : "lighter"} ones
        </p>
      )}
    </Card>
  );
}

function LastSurvey({ library }: { library: Library }) {
  const job = library.last_survey;
  const survey = job?.survey;
  if (!survey || job.state !== "finished") return null;
  return (
    <Card className="lg:col-span-3" title="The last survey" aside={when(job.finished_at)}>
      <p>
        {count(survey.files_seen)} files seen: {count(survey.files_new)} new, {count(survey.files_changed)}{" "}
        changed by others, {count(survey.files_gone)} gone, {count(survey.files_unreadable)} unreadable.{" "}
        {survey.copies > 0 && `${many(survey.copies, "copy", "copies")} of ours stand beside them. `}
        Originals and renditions both count as files: {many(survey.renditions, "rendition")} found their
        original, {count(survey.renditions_told)} of them because the site says so.
      </p>
      {survey.notes.length > 0 && (
        <details className="mt-2 text-sm text-quiet">
          <summary className="cursor-pointer">Left out, and why</summary>
          <ul className="mt-1 list-inside list-disc">
            {survey.notes.map((note) => (
              <li key={note} className="break-words">
                {note}
              </li>
            ))}
          </ul>
        </details>
      )}
    </Card>
  );
}
