/** What visitors get: asked for as three browsers, and counted from what was really sent. */

import { Check, TriangleAlert } from "lucide-react";
import { useState, type FormEvent } from "react";
import { Link } from "react-router";
import { contentUrl, type Library } from "../api/client";
import { useFormats } from "../api/queries";
import { useAsk, useTraffic, type Asked, type AskReport, type Sent } from "../api/serving";
import { bytes, count, many, saved } from "../look/words";
import { addressOf } from "../pages";
import { Slat } from "../parts/Slat";
import { Button, Card, Empty, ErrorNote, Figure, INPUT, Mind, Shape } from "../parts/ui";

const SPANS = [7, 30, 90, 365];
const BROWSERS = { old: "An old browser", webp: "One with WebP", avif: "One with AVIF" } as const;

export function ServePage({ library }: { library: Library }) {
  return (
    <div className="space-y-5">
      {library.delivery.address === null && (
        <Mind>
          It is not known yet where the site serves this library. Say so under{" "}
          <Link className="underline" to={addressOf(library.slug, "serve/ways")}>
            Ways
          </Link>
          : then it can be checked what visitors get.
        </Mind>
      )}
      <Sendings library={library} />
      <Asking library={library} />
    </div>
  );
}

function Sendings({ library }: { library: Library }) {
  const [days, setDays] = useState(30);
  const traffic = useTraffic(library.slug, days);
  const { label } = useFormats();
  const spans = (
    <span className="flex flex-wrap gap-1" role="group" aria-label="Days">
      {SPANS.map((span) => (
        <Button
          key={span}
          look={span === days ? "main" : "quiet"}
          className="whitespace-nowrap"
          aria-pressed={span === days}
          onClick={() => setDays(span)}
        >
          {span} days
        </Button>
      ))}
    </span>
  );
  if (traffic.isError) return <ErrorNote error={traffic.error} again={() => void traffic.refetch()} />;
  if (!traffic.data) return <Shape className="h-64" />;
  const { total, bots, by_day, by_format, by_picture } = traffic.data;
  if (!total.requests) {
    return (
      <Card title="What was sent" aside={spans}>
        <Empty title="Nothing was counted yet">
          Counted are pictures that visitors fetch from here, and those in the site's access log:{" "}
          <code className="font-mono text-xs">plumcrate traffic {library.slug} --log access.log</code>.
          Nothing is kept of who asked.
        </Empty>
      </Card>
    );
  }
  return (
    <Card title="What was sent" aside={spans}>
      <div className="mb-5 flex flex-wrap gap-x-10 gap-y-4">
        <Figure
          value={saved(total.bytes_before, total.bytes)}
          caption="lighter than with the first files"
          tone="leaf"
        />
        <Figure value={bytes(total.bytes)} caption={`instead of ${bytes(total.bytes_before)}`} />
        <Figure value={count(total.requests)} caption="answers with pictures" />
        <Figure
          value={count(bots.requests)}
          caption={`more to programs, ${bytes(bots.bytes)}; not counted in`}
        />
      </div>
      <div className="grid gap-6 lg:grid-cols-2">
        <Sums title="By day" rows={by_day.slice(-14).reverse()} name={dayName} />
        <Sums title="By format" rows={by_format} name={label} format={(row) => row.name} />
        <div className="min-w-0 lg:col-span-2">
          <Sums title="What saved most" rows={by_picture.slice(0, 8)} name={(path) => path} mono />
        </div>
      </div>
    </Card>
  );
}

const dayName = (day: string) =>
  new Date(`${day}T12:00:00`).toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
  });

function Sums({
  title,
  rows,
  name,
  format,
  mono = false,
}: {
  title: string;
  rows: Sent[];
  name: (name: string) => string;
  format?: (row: Sent) => string;
  mono?: boolean;
}) {
  const scale = Math.max(...rows.map((row) => row.bytes_before), 1);
  return (
    <div className="min-w-0">
      <h3 className="mb-2 text-sm font-semibold">{title}</h3>
      <ul className="space-y-2">
        {rows.map((row) => (
          <li key={row.name}>
            <div className="mb-0.5 flex justify-between gap-4 text-sm">
              <span className={`min-w-0 truncate ${mono ? "font-mono text-xs" : ""}`} title={row.name}>
                {name(row.name)}
              </span>
              <span className="shrink-0 tabular-nums text-quiet">
                {many(row.requests, "answer")}, {bytes(row.bytes)}{" "}
                <span className="text-leaf">{saved(row.bytes_before, row.bytes)}</span>
              </span>
            </div>
            <Slat before={row.bytes_before} now={row.bytes} scale={scale} format={format?.(row)} />
          </li>
        ))}
      </ul>
    </div>
  );
}

function Asking({ library }: { library: Library }) {
  const [wanted, setWanted] = useState("/");
  const asking = useAsk(library.slug);
  const start = (event: FormEvent) => {
    event.preventDefault();
    const text = wanted.trim();
    const isPage = text.startsWith("/") || text.includes("://");
    asking.mutate(isPage ? { page: text } : { path: text });
  };
  return (
    <Card title="What does each browser get?" aside="Asked for real, through the site.">
      <form className="flex flex-wrap items-end gap-2" onSubmit={start}>
        <label className="min-w-0 grow basis-72">
          <span className="mb-1 block text-sm font-semibold">
            A page of the site, or a file of the library
          </span>
          <input
            className={`${INPUT} font-mono`}
            value={wanted}
            onChange={(event) => setWanted(event.target.value)}
            placeholder="/visit or 2025/kite.jpg"
          />
        </label>
        <Button
          type="submit"
          look="main"
          busy={asking.isPending}
          disabled={!wanted.trim() || library.delivery.address === null}
        >
          Ask
        </Button>
      </form>
      <div className="mt-4 space-y-4" aria-live="polite">
        {asking.isPending && <Shape className="h-40" />}
        {asking.isError && <ErrorNote error={asking.error} />}
        {asking.data && <Answers report={asking.data} />}
      </div>
    </Card>
  );
}

function Answers({ report }: { report: AskReport }) {
  const faults = report.rows.flatMap((row) => row.got).filter((got) => got.fault !== null).length;
  return (
    <>
      {report.rows.length > 0 && (
        <p className={`flex items-center gap-2 text-sm font-semibold ${faults ? "text-clay" : "text-leaf"}`}>
          {faults ? <TriangleAlert size={16} aria-hidden /> : <Check size={16} aria-hidden />}
          {faults
            ? `${many(faults, "answer is", "answers are")} not as they should be.`
            : `Each browser gets the lightest form it can show, of ${many(report.rows.length, "picture")}.`}
        </p>
      )}
      {report.notes.map((note) => (
        <p key={note} className="text-sm text-quiet">
          {note}
        </p>
      ))}
      {report.rows.map((row) => (
        <Answer key={`${row.path} ${row.got[0]?.address}`} row={row} />
      ))}
    </>
  );
}

/** The picture as each browser received it, side by side. */
function Answer({ row }: { row: Asked }) {
  const { formats } = useFormats();
  const formatOf = (type: string) => formats.find((format) => format.media_type === type)?.name;
  return (
    <section className="rounded-[5px] border border-line p-3">
      <h3 className="mb-2 truncate font-mono text-xs" title={row.path}>
        {row.path}
      </h3>
      <div className="grid gap-3 sm:grid-cols-3">
        {row.got.map((got) => {
          const format = formatOf(got.media_type);
          const version = format === undefined || got.browser === "old" ? "now" : format;
          return (
            <figure key={got.browser} className="min-w-0">
              <div className="flex aspect-[3/2] items-center justify-center overflow-hidden rounded bg-sunken">
                {row.file_id !== null && got.status === 200 && (
                  <img
                    src={contentUrl(row.file_id, version, got.bytes)}
                    alt=""
                    loading="lazy"
                    className="max-h-full max-w-full"
                    onError={(event) => {
                      event.currentTarget.src = contentUrl(row.file_id!, "now", got.bytes);
                    }}
                  />
                )}
              </div>
              <figcaption className="mt-1.5 text-sm">
                <span className="flex justify-between gap-2">
                  <span className="font-semibold">{BROWSERS[got.browser]}</span>
                  <span className="tabular-nums">{bytes(got.bytes)}</span>
                </span>
                <span className="block text-xs text-quiet">
                  {got.status || "no answer"} {got.media_type}
                </span>
                <Slat before={row.bytes} now={got.bytes} format={format} size="thin" />
                {got.fault !== null && (
                  <span className="mt-1 block text-xs font-semibold text-clay">{got.fault}</span>
                )}
                {got.cache !== null && <span className="mt-1 block text-xs text-quiet">{got.cache}</span>}
                <details className="mt-1 text-xs text-quiet">
                  <summary className="cursor-pointer">Headers</summary>
                  <dl className="mt-1 space-y-0.5 break-all font-mono text-[11px]">
                    {Object.entries(got.headers).map(([name, value]) => (
                      <div key={name}>
                        {name}: {value}
                      </div>
                    ))}
                  </dl>
                </details>
              </figcaption>
            </figure>
          );
        })}
      </div>
    </section>
  );
}
