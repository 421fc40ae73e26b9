/** What a run is expected to save, from a sample treated in memory; and how right that was. */

import type { Library, Outlook as Found } from "../api/client";
import { underWay, useJobs, useStartJob, useStopJob } from "../api/queries";
import { bytes, count, duration, many, saved } from "../look/words";
import { Button, Card, ErrorNote } from "./ui";

export function ForecastCard({ library }: { library: Library }) {
  const forecasts = useJobs(library.slug, "forecast");
  const start = useStartJob(library.slug, "forecast");
  const stop = useStopJob();
  const latest = forecasts.data?.[0];
  const busy = start.isPending || underWay(latest);
  // What was foretold is past when nothing is left to treat; how right it was is told with it.
  if (library.files_new === 0 && !busy) return null;
  return (
    <Card
      className="lg:col-span-3"
      title="Forecast"
      aside={
        <div className="flex gap-2">
          <Button busy={busy} onClick={() => start.mutate({ seconds: 60 })}>
            {busy ? "Treating a sample in memory …" : latest ? "Forecast again" : "Forecast the saving"}
          </Button>
          {busy && latest && (
            <Button busy={stop.isPending} onClick={() => stop.mutate(latest.id)}>
              Stop
            </Button>
          )}
        </div>
      }
    >
      <span id="forecast" className="block scroll-mt-24" />
      {start.isError && <ErrorNote error={start.error} />}
      {forecasts.isError && <ErrorNote error={forecasts.error} again={() => void forecasts.refetch()} />}
      {!latest && (
        <p className="text-quiet">
          Treats a sample for a minute, in memory only, and reckons the rest from it. Nothing in the library
          is touched.
        </p>
      )}
      {latest?.state === "failed" && <ErrorNote error={new Error(latest.reason ?? "the forecast failed")} />}
      {latest?.forecast?.outlook && <Outlook result={latest.forecast.outlook} />}
    </Card>
  );
}

function Outlook({ result }: { result: Found }) {
  const full = Math.max(result.bytes_before, 1);
  const share = (value: number) => `${Math.min(100, (100 * value) / full)}%`;
  const actual = result.actual_files > 0 && result.actual_before > 0;
  const lines = [
    { name: "the files themselves", range: result.bytes_after, was: result.actual_after },
    { name: "what a modern browser fetches", range: result.bytes_lightest, was: result.actual_lightest },
  ];
  return (
    <>
      <div className="space-y-4">
        {lines.map(({ name, range, was }) => (
          <div key={name}>
            <div className="flex flex-wrap justify-between gap-x-4 text-sm">
              <span>
                {name}: about <strong>{bytes(range.expected)}</strong>,{" "}
                <strong className="text-leaf">{saved(result.bytes_before, range.expected)}</strong>
              </span>
              <span className="text-quiet">
                nine times in ten between {bytes(range.low)} and {bytes(range.high)}
              </span>
            </div>
            <div
              role="img"
              aria-label={`${bytes(result.bytes_before)} before, about ${bytes(range.expected)} after`}
              className="hollow relative mt-1 h-5 overflow-hidden rounded-[3px] border border-slate"
            >
              <div className="expected h-full" style={{ width: share(range.expected) }} />
              <div
                className="absolute inset-y-0 bg-plum/35"
                style={{ left: share(range.low), width: `calc(${share(range.high)} - ${share(range.low)})` }}
                aria-hidden
              />
            </div>
            {actual && (
              <p className="mt-1 text-xs text-quiet">
                So far {many(result.actual_files, "file")} treated: {saved(result.actual_before, was)} of{" "}
                {bytes(result.actual_before)}; the forecast said {saved(result.bytes_before, range.expected)}{" "}
                for all.
              </p>
            )}
          </div>
        ))}
      </div>
      <p className="mt-3 text-sm text-quiet">
        An estimate for {many(result.files, "file")} of {bytes(result.bytes_before)}, from{" "}
        {count(result.sampled_files)} of them ({bytes(result.sampled_bytes)}) treated in{" "}
        {Math.round(result.seconds)} s.
        {result.wanted_seconds != null && (
          <strong className="block text-clay">
            Too little was looked at for these figures to be worth much: sample for{" "}
            {duration(result.wanted_seconds)}.
          </strong>
        )}
        {result.wanted_seconds == null && result.run_seconds != null && (
          <>
            {" "}
            A run over all of them would take about{" "}
            <strong className="text-ink">{duration(result.run_seconds)}</strong> on this machine.
          </>
        )}
      </p>
      {result.efforts.length > 0 && <Efforts result={result} />}
    </>
  );
}

/** What each effort would take and leave: the choice between them by figures. */
function Efforts({ result }: { result: Found }) {
  return (
    <div className="mt-4 overflow-x-auto">
      <table className="w-full text-sm">
        <caption className="mb-1 text-left text-quiet">
          With more or less effort, by files treated with each of them
        </caption>
        <thead className="text-left text-xs text-quiet">
          <tr>
            <th className="py-1 pr-4 font-semibold">Effort</th>
            <th className="py-1 pr-4 text-right font-semibold">A run would take</th>
            <th className="py-1 pr-4 text-right font-semibold">The files themselves</th>
            <th className="py-1 text-right font-semibold">What a modern browser fetches</th>
          </tr>
        </thead>
        <tbody className="divide-y divide-line tabular-nums">
          {result.efforts.map((one) => (
            <tr key={one.effort}>
              <th scope="row" className="py-1.5 pr-4 text-left font-semibold">
                {one.effort}
              </th>
              <td className="whitespace-nowrap py-1.5 pr-4 text-right">{duration(one.run_seconds)}</td>
              <td className="whitespace-nowrap py-1.5 pr-4 text-right">{bytes(one.bytes_after)}</td>
              <td className="whitespace-nowrap py-1.5 text-right">
                {bytes(one.bytes_lightest)}{" "}
                <span className="text-leaf">{saved(result.bytes_before, one.bytes_lightest)}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
