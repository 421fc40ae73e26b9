/** The pages of the site: what each weighed at first, and weighs now. */

import { useEffect, useState, type FormEvent } from "react";
import { Link } from "react-router";
import { useQueryClient } from "@tanstack/react-query";
import type { Library } from "../api/client";
import { stale, underWay, useJobs, useStopJob } from "../api/queries";
import { useMay } from "../api/people";
import { useSitePages, useWeigh, type Device, type SitePage } from "../api/weighing";
import { bytes, many, saved } from "../look/words";
import { addressOf } from "../pages";
import { DEVICES, seconds } from "../parts/PageWeight";
import { Slat } from "../parts/Slat";
import { Button, Card, Empty, ErrorNote, INPUT, Mind, Shape, Tick } from "../parts/ui";

export function WeightsPage({ library }: { library: Library }) {
  const pages = useSitePages(library.slug);
  const may = useMay(library.slug);
  return (
    <div className="space-y-5">
      {may("treat") && <Start library={library} />}
      {pages.isPending && <Shape className="h-64" />}
      {pages.isError && <ErrorNote error={pages.error} again={() => void pages.refetch()} />}
      {pages.data?.length === 0 && (
        <Empty title="No page has been weighed yet">
          Begin with the front page: what it weighs, how long visitors wait for it, and what its pictures
          would weigh.
        </Empty>
      )}
      {pages.data && pages.data.length > 0 && <Pages library={library} pages={pages.data} />}
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

function Pages({ library, pages }: { library: Library; pages: SitePage[] }) {
  const [device, setDevice] = useState<Device>("phone");
  const of = (page: SitePage) => ({
    now: page.latest.find((point) => point.device === device),
    first: page.first.find((point) => point.device === device),
  });
  const scale = Math.max(
    ...pages.map((page) => Math.max(of(page).now?.bytes ?? 0, of(page).first?.bytes ?? 0)),
    1,
  );
  return (
    <Card title={many(pages.length, "page")} aside={<DeviceChoice device={device} onChange={setDevice} />}>
      <ul className="divide-y divide-line">
        {pages.map((page) => {
          const { now, first } = of(page);
          return (
            <li
              key={page.id}
              className="grid items-center gap-x-6 gap-y-1 py-3 md:grid-cols-[minmax(0,2fr)_minmax(0,3fr)_auto]"
            >
              <Link
                className="truncate font-mono text-sm text-plum hover:underline"
                title={page.address}
                to={addressOf(library.slug, `weights/${page.id}`)}
              >
                {page.address}
              </Link>
              {page.fault ? (
                <span className="text-sm text-clay md:col-span-2">{page.fault}</span>
              ) : now && first ? (
                <>
                  <Slat
                    before={Math.max(first.bytes, now.bytes)}
                    now={now.bytes}
                    scale={scale}
                    label={`${bytes(first.bytes)} at first, ${bytes(now.bytes)} now`}
                  />
                  <span className="text-sm tabular-nums text-quiet">
                    <span className="text-ink">{bytes(now.bytes)}</span>{" "}
                    <span className={now.bytes <= first.bytes ? "text-leaf" : "text-clay"}>
                      {now.bytes === first.bytes ? "" : saved(first.bytes, now.bytes)}
                    </span>{" "}
                    · paint {seconds(now.lcp)}
                    {page.over > 0 && <span className="ml-2 font-semibold text-clay">over budget</span>}
                    {(page.schedule || page.after_runs) && <span className="ml-2">by itself</span>}
                  </span>
                </>
              ) : (
                <span className="text-sm text-quiet md:col-span-2">
                  {page.weighings ? `not weighed on a ${device} yet` : "not weighed yet"}
                </span>
              )}
            </li>
          );
        })}
      </ul>
    </Card>
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
