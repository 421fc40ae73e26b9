/** The pages of the site: what each weighed at first, and weighs now. */

import { useEffect, useState, type FormEvent } from "react";
import { Link } from "react-router";
import { useQueryClient } from "@tanstack/react-query";
import type { Library } from "../api/client";
import { stale, underWay, useJobs, useStopJob } from "../api/queries";
import { useMay } from "../api/people";
import { shotUrl, useSitePages, useWeigh, type Device, type Point, type SitePage } from "../api/weighing";
import { bytes, many, saved } from "../look/words";
import { addressOf } from "../pages";
import { DEVICES, seconds } from "../parts/PageWeight";
import { Slat } from "../parts/Slat";
import { Button, Card, Empty, ErrorNote, INPUT, Mind, Shape, Tick } from "../parts/ui";

export function WeightsPage({ library }: { library: Library }) {
  const pages = useSitePages(library.slug);
  const may = useMay(library.slug);
  const there = pages.data !== undefined && pages.data.length > 0;
  return (
    <div className="space-y-5">
      {there && <Pages library={library} pages={pages.data} />}
      {may("treat") && <Start library={library} />}
      {pages.isPending && <Shape className="h-64" />}
      {pages.isError && <ErrorNote error={pages.error} again={() => void pages.refetch()} />}
      {pages.data?.length === 0 && (
        <Empty title="No page has been weighed yet">
          Begin with the front page: what it weighs, how long visitors wait for it, and what its pictures
          would weigh.
        </Empty>
      )}
    </div>
  );
}

/** The weighing that is under way; when it ends, what is shown is asked for anew. */
export function useWeighingJob(slug: string) {
  const jobs = useJobs(slug, "weighing");
  const cache = useQueryClient();
  const latest = jobs.data?.find(underWay) ?? jobs.data?.[0];
  const done = latest ? `${latest.id} ${latest.state} ${latest.weighing?.weighings.length ?? 0}` : "";
  useEffect(() => {
    if (done) stale(cache, ["sitePages", "sitePage", "weighings", "pageHistory"]);
  }, [cache, done]);
  return latest;
}

function Start({ library }: { library: Library }) {
  const [written, setWritten] = useState("/");
  const [predict, setPredict] = useState(true);
  const weigh = useWeigh(library.slug);
  const job = useWeighingJob(library.slug);
  const stop = useStopJob();
  const busy = underWay(job);
  const start = (event: FormEvent) => {
    event.preventDefault();
    const places = written.split(/\s+/).filter(Boolean);
    const sitemap =
      places.length === 1 && /(\.xml|\.xml\.gz|sitemap[^/]*)$/.test(places[0]!)
        ? new URL(places[0]!, library.delivery.address ?? undefined).href
        : null;
    weigh.mutate({
      ...(sitemap ? { addresses: [], sitemap } : { addresses: places }),
      what_if: predict ? [{ fit: false, markup: true }] : [],
    });
  };
  return (
    <Card
      title="Weigh pages"
      aside="In a real browser, on a desktop and a phone. Nothing of the site is touched."
    >
      <form className="space-y-3" onSubmit={start}>
        <label className="block">
          <span className="mb-1 block text-sm font-semibold">Pages, one a line, or a sitemap</span>
          <textarea
            rows={2}
            className={`${INPUT} font-mono`}
            value={written}
            onChange={(event) => setWritten(event.target.value)}
            placeholder={"/\n/visit"}
          />
        </label>
        <Tick
          label="Also predict"
          hint="Each page once more with its pictures as the recipe in use would make them. The library stays as it is."
          on={predict}
          onChange={setPredict}
        />
        <div className="flex flex-wrap items-center gap-3">
          <Button type="submit" look="main" busy={weigh.isPending} disabled={!written.trim()}>
            Weigh
          </Button>
          {busy && job && (
            <>
              <span role="status" className="text-sm text-quiet">
                {job.state === "waiting"
                  ? "Waiting for a worker."
                  : `Weighing ${job.weighing?.at ?? ""}: ${job.weighing?.weighed ?? 0} of ${many(job.weighing?.pages ?? 0, "page")} done.`}
              </span>
              <Button look="quiet" busy={stop.isPending} onClick={() => stop.mutate(job.id)}>
                Stop
              </Button>
            </>
          )}
        </div>
        {weigh.isError && <ErrorNote error={weigh.error} />}
        {job?.state === "failed" && <Mind>The last weighing failed: {job.reason}</Mind>}
        {!busy &&
          job?.weighing?.notes.map((note) => (
            <p key={note} className="text-sm text-quiet">
              {note}
            </p>
          ))}
      </form>
    </Card>
  );
}

/** The pages as a wall of pictures, each with what it weighed, weighs now, and is predicted to weigh. */
function Pages({ library, pages }: { library: Library; pages: SitePage[] }) {
  const [device, setDevice] = useState<Device>("phone");
  const on = (points: Point[]) => points.find((point) => point.device === device);
  const scale = Math.max(
    ...pages.map((page) => Math.max(on(page.latest)?.bytes ?? 0, on(page.first)?.bytes ?? 0)),
    1,
  );
  return (
    <section aria-label="Weighed pages">
      <div className="mb-3 flex flex-wrap items-center justify-between gap-3">
        <h2 className="text-xl">{many(pages.length, "page")}</h2>
        <DeviceChoice device={device} onChange={setDevice} />
      </div>
      <ul
        className={`grid gap-4 ${device === "phone" ? "grid-cols-2 md:grid-cols-3 lg:grid-cols-5" : "sm:grid-cols-2 lg:grid-cols-3"}`}
      >
        {pages.map((page) => (
          <OfPage
            key={page.id}
            library={library}
            page={page}
            device={device}
            first={on(page.first)}
            now={on(page.latest)}
            predicted={on(page.predicted)}
            scale={scale}
          />
        ))}
      </ul>
    </section>
  );
}

function OfPage({
  library,
  page,
  device,
  first,
  now,
  predicted,
  scale,
}: {
  library: Library;
  page: SitePage;
  device: Device;
  first: Point | undefined;
  now: Point | undefined;
  predicted: Point | undefined;
  scale: number;
}) {
  const to = addressOf(library.slug, `weights/${page.id}`);
  return (
    <li className="crate flex min-w-0 flex-col overflow-hidden">
      <Link to={to} tabIndex={-1} aria-hidden className="block">
        <Seen
          key={now?.shot}
          library={library}
          shot={now?.shot ?? null}
          className={device === "phone" ? "aspect-[9/14]" : "aspect-[16/10]"}
        />
      </Link>
      <div className="space-y-1.5 p-3 text-sm">
        <Link
          className="block truncate font-mono text-xs text-plum hover:underline"
          title={page.address}
          to={to}
        >
          {page.address.replace(/^https?:\/\//, "")}
        </Link>
        {page.fault ? (
          <p className="text-clay">{page.fault}</p>
        ) : now && first ? (
          <>
            <Slat
              before={Math.max(first.bytes, now.bytes)}
              now={now.bytes}
              scale={scale}
              label={`${bytes(first.bytes)} at first, ${bytes(now.bytes)} now`}
            />
            <p className="tabular-nums">
              {bytes(now.bytes)}{" "}
              {now.bytes !== first.bytes && (
                <span className={now.bytes < first.bytes ? "text-leaf" : "text-clay"}>
                  {saved(first.bytes, now.bytes)} of {bytes(first.bytes)}
                </span>
              )}
            </p>
            {predicted && (
              <p className="text-xs text-quiet">
                predicted: about {bytes(predicted.bytes)},{" "}
                <span className="text-leaf">{saved(now.bytes, predicted.bytes)}</span>
              </p>
            )}
            <p className="flex flex-wrap gap-x-2 text-xs text-quiet">
              <span>paint {seconds(now.lcp)}</span>
              {page.over > 0 && <span className="font-semibold text-clay">over budget</span>}
              {(page.schedule || page.after_runs) && <span>by itself</span>}
            </p>
          </>
        ) : (
          <p className="text-quiet">
            {page.weighings ? `not weighed on a ${device} yet` : "not weighed yet"}
          </p>
        )}
      </div>
    </li>
  );
}

/** A page's first view; where there is no picture of it, that is said. */
function Seen({ library, shot, className }: { library: Library; shot: number | null; className: string }) {
  const [broken, setBroken] = useState(false);
  if (shot === null || broken)
    return (
      <div
        className={`flex items-center justify-center bg-sunken p-3 text-center text-xs text-quiet ${className}`}
      >
        no picture of the page
      </div>
    );
  return (
    <img
      src={shotUrl(library.slug, shot)}
      alt=""
      loading="lazy"
      decoding="async"
      onError={() => setBroken(true)}
      className={`w-full border-b border-line bg-sunken object-cover object-top ${className}`}
    />
  );
}

export function DeviceChoice({ device, onChange }: { device: Device; onChange: (device: Device) => void }) {
  return (
    <span className="flex gap-1" role="group" aria-label="Device">
      {(Object.keys(DEVICES) as Device[]).map((each) => (
        <Button
          key={each}
          look={each === device ? "main" : "quiet"}
          aria-pressed={each === device}
          onClick={() => onChange(each)}
        >
          {DEVICES[each]}
        </Button>
      ))}
    </span>
  );
}
