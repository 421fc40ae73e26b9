/** What was saved in some months, as the client will read it; as PDF and CSV; and made by itself each month. */

import { Download } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { previewUrl, type Library, type SlatFigures } from "../api/client";
import { useMay } from "../api/people";
import {
  keptUrl,
  reportUrl,
  useKeepReport,
  useKeptReports,
  useReport,
  useReportSettings,
  useSetReport,
  type Report,
  type ReportPicture,
  type ReportSettings,
} from "../api/plans";
import { useFormats, useJobs } from "../api/queries";
import { bytes, count, many, points, saved, when } from "../look/words";
import { addressOf } from "../pages";
import { Slat } from "../parts/Slat";
import {
  Button,
  Card,
  Empty,
  ErrorNote,
  Field,
  Figure,
  INLINE_INPUT,
  INPUT,
  SaveBar,
  Shape,
  Tick,
} from "../parts/ui";
import { monthName } from "./AllowancePage";

export function ReportPage({ library }: { library: Library }) {
  const today = new Date();
  const now = `${String(today.getFullYear())}-${String(today.getMonth() + 1).padStart(2, "0")}`;
  const [begins, setBegins] = useState(`${String(today.getFullYear())}-01`);
  const [ends, setEnds] = useState(now);
  const report = useReport(library.slug, begins, ends);
  const may = useMay(library.slug);
  return (
    <div className="space-y-5">
      <div className="crate flex flex-wrap items-end gap-3 p-4">
        <MonthInput label="From" value={begins} max={ends} onChange={setBegins} />
        <MonthInput label="To" value={ends} min={begins} onChange={setEnds} />
        <span className="flex flex-wrap gap-2 sm:ml-auto">
          <FileLink href={reportUrl(library.slug, "pdf", begins, ends)}>PDF for the client</FileLink>
          <FileLink href={reportUrl(library.slug, "csv", begins, ends)}>CSV</FileLink>
        </span>
      </div>
      {report.isError && <ErrorNote error={report.error} again={() => void report.refetch()} />}
      {report.isPending && <Shape className="h-96" />}
      {report.data && <Content library={library} report={report.data} />}
      {may("administer") && <ByItself library={library} />}
      <Kept library={library} month={now} mayKeep={may("administer")} />
    </div>
  );
}

function MonthInput({
  label,
  value,
  onChange,
  min,
  max,
}: {
  label: string;
  value: string;
  onChange: (month: string) => void;
  min?: string;
  max?: string;
}) {
  return (
    <label className="text-sm">
      <span className="mb-1 block font-semibold">{label}</span>
      <input
        type="month"
        required
        className={`${INLINE_INPUT} w-44`}
        value={value}
        min={min}
        max={max}
        onChange={(event) => /^\d{4}-\d{2}$/.test(event.target.value) && onChange(event.target.value)}
      />
    </label>
  );
}

function FileLink({ href, children }: { href: string; children: ReactNode }) {
  return (
    <a
      href={href}
      download
      className="inline-flex min-h-9 items-center gap-2 rounded-[5px] border border-line bg-surface px-3.5 py-1.5 text-sm font-semibold hover:border-plum hover:text-plum"
    >
      <Download size={15} aria-hidden /> {children}
    </a>
  );
}

function Content({ library, report }: { library: Library; report: Report }) {
  const { label } = useFormats();
  const { treated, sent } = report;
  if (!treated.files) {
    return (
      <Card title={`For ${report.client}`}>
        <Empty title="No file was treated in these months">
          Choose other months, or start a run under Treat.
        </Empty>
      </Card>
    );
  }
  return (
    <>
      <Card title={`For ${report.client}`} aside={report.sender}>
        <Slat
          size="tall"
          before={treated.bytes_before}
          now={treated.bytes_now}
          lightest={treated.bytes_lightest}
        />
        <p className="mt-2">
          {bytes(treated.bytes_before)} are {bytes(treated.bytes_now)} now; a modern browser fetches{" "}
          {bytes(treated.bytes_lightest)}.
        </p>
        <div className="mt-4 flex flex-wrap gap-x-10 gap-y-4">
          <Figure
            value={saved(treated.bytes_before, treated.bytes_lightest)}
            caption="lighter for a modern browser"
            tone="leaf"
          />
          <Figure value={count(report.pictures)} caption={`pictures, in ${many(treated.files, "file")}`} />
          <Figure
            value={count(report.copies)}
            caption={`copies in modern formats, ${bytes(report.bytes_copies)}`}
          />
          {sent.requests > 0 && (
            <Figure
              value={bytes(Math.max(0, sent.bytes_before - sent.bytes))}
              caption="that visitors did not have to fetch"
            />
          )}
        </div>
      </Card>
      <div className="grid items-start gap-5 lg:grid-cols-2">
        <div className="space-y-5">
          <Slats title="By month" slats={report.by_month} name={monthName} />
          <Slats title="By format" slats={report.by_format} name={label} format />
          {sent.requests > 0 && (
            <Slats
              title="What visitors were sent"
              name={monthName}
              noun="answer"
              slats={report.sent_by_month.map((one) => ({
                name: one.name,
                files: one.requests,
                bytes_before: one.bytes_before,
                bytes_now: one.bytes,
                bytes_lightest: one.bytes,
              }))}
            />
          )}
        </div>
        <Slats title="By folder" slats={report.by_folder} name={(folder) => folder || "the folder itself"} />
      </div>
      {report.pages.length > 0 && <Pages report={report} />}
      <Pictures title="Lighter by most" library={library} pictures={report.best} />
      <Pictures title="Changed most" library={library} pictures={report.worst} worst />
    </>
  );
}

function Slats({
  title,
  slats,
  name,
  format = false,
  noun = "file",
}: {
  title: string;
  slats: SlatFigures[];
  name: (name: string) => string;
  format?: boolean;
  noun?: string;
}) {
  const scale = Math.max(1, ...slats.map((slat) => slat.bytes_before));
  return (
    <Card title={title}>
      <ul className="space-y-2.5">
        {slats.map((slat) => (
          <li key={slat.name}>
            <div className="mb-0.5 flex justify-between gap-4 text-sm">
              <span className="min-w-0 truncate" title={slat.name}>
                {name(slat.name)}
              </span>
              <span className="shrink-0 tabular-nums text-quiet">
                {many(slat.files, noun)}, {bytes(slat.bytes_lightest)}{" "}
                <span className="text-leaf">{saved(slat.bytes_before, slat.bytes_lightest)}</span>
              </span>
            </div>
            <Slat
              before={slat.bytes_before}
              now={slat.bytes_now}
              lightest={slat.bytes_lightest}
              scale={scale}
              format={format ? slat.name : undefined}
            />
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Pages({ report }: { report: Report }) {
  const painted = (value: number | null) => (value === null ? "–" : `${value.toFixed(2)} s`);
  return (
    <Card title="Pages, weighed" aside="at first and at last">
      <div className="overflow-x-auto">
        <table className="w-full min-w-xl text-sm tabular-nums">
          <thead className="text-left text-xs text-quiet">
            <tr>
              <th className="py-1 pr-4 font-normal">Page</th>
              <th className="pr-4 font-normal">On</th>
              <th className="pr-4 text-right font-normal">Pictures</th>
              <th className="pr-4 text-right font-normal">saved</th>
              <th className="text-right font-normal">Largest part painted</th>
            </tr>
          </thead>
          <tbody className="divide-y divide-line">
            {report.pages.map((page) => (
              <tr key={`${page.address} ${page.device}`}>
                <td className="max-w-xs truncate py-1.5 pr-4" title={page.address}>
                  {page.address}
                </td>
                <td className="pr-4">{page.device}</td>
                <td className="pr-4 text-right">
                  {bytes(page.picture_bytes_first)} → {bytes(page.picture_bytes_latest)}
                </td>
                <td className="pr-4 text-right text-leaf">
                  {saved(page.picture_bytes_first, page.picture_bytes_latest)}
                </td>
                <td className="text-right">
                  {painted(page.lcp_first)} → {painted(page.lcp_latest)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Card>
  );
}

function Pictures({
  title,
  library,
  pictures,
  worst = false,
}: {
  title: string;
  library: Library;
  pictures: ReportPicture[];
  worst?: boolean;
}) {
  if (pictures.length === 0) return null;
  return (
    <Card
      title={title}
      aside={worst ? "by their worst place; at 100 no change can be seen" : "what a modern browser fetches"}
    >
      <ul className="grid grid-cols-2 gap-4 md:grid-cols-3 lg:grid-cols-6">
        {pictures.map((one) => (
          <li key={one.picture_id} className="min-w-0 text-sm">
            <Link to={addressOf(library.slug, `review/${String(one.picture_id)}`)} className="group block">
              <img
                src={previewUrl(one.file_id, 400, one.bytes_now)}
                alt=""
                loading="lazy"
                className="mb-1 aspect-4/3 w-full rounded-[3px] border border-line bg-sunken object-contain"
              />
              <span className="block truncate group-hover:text-plum" title={one.path}>
                {one.path.split("/").pop()}
              </span>
            </Link>
            <span className={worst ? "text-clay" : "text-leaf"}>
              {worst ? `worst place ${points(one.worst)}` : saved(one.bytes_before, one.bytes_lightest)}
            </span>
            <span className="block text-xs text-quiet">
              {bytes(one.bytes_before)} → {bytes(one.bytes_lightest)}
            </span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function ByItself({ library }: { library: Library }) {
  const settings = useReportSettings(library.slug);
  if (settings.isError) return <ErrorNote error={settings.error} again={() => void settings.refetch()} />;
  if (!settings.data) return <Shape className="h-40" />;
  return <SettingsForm slug={library.slug} held={settings.data} name={library.name} />;
}

function SettingsForm({ slug, held, name }: { slug: string; held: ReportSettings; name: string }) {
  const [wanted, setWanted] = useState(held);
  const change = useSetReport(slug);
  return (
    <Card title="Whose report it is">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate(wanted);
        }}
      >
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="For" hint="The client's own name, as it stands above the report.">
            <input
              className={INPUT}
              maxLength={120}
              value={wanted.client}
              placeholder={name}
              onChange={(event) => setWanted({ ...wanted, client: event.target.value })}
            />
          </Field>
          <Field label="From" hint="Who sends it; empty: nobody is named.">
            <input
              className={INPUT}
              maxLength={120}
              value={wanted.sender}
              onChange={(event) => setWanted({ ...wanted, sender: event.target.value })}
            />
          </Field>
        </div>
        <Tick
          label="Make one when a month is over"
          hint="It is kept below, put into the service's folder for reports where there is one, and told to the webhook."
          on={wanted.monthly}
          onChange={(monthly) => setWanted({ ...wanted, monthly })}
        />
        <SaveBar
          same={JSON.stringify(wanted) === JSON.stringify(held)}
          change={change}
          onDiscard={() => setWanted(held)}
        />
      </form>
    </Card>
  );
}

function Kept({ library, month, mayKeep }: { library: Library; month: string; mayKeep: boolean }) {
  const kept = useKeptReports(library.slug);
  const keep = useKeepReport(library.slug);
  const job = useJobs(library.slug, "report").data?.[0];
  const [wanted, setWanted] = useState(month);
  const open = job !== undefined && (job.state === "waiting" || job.state === "running");
  return (
    <Card title="Reports that are kept">
      {kept.isPending && <Shape className="h-16" />}
      {kept.isError && <ErrorNote error={kept.error} again={() => void kept.refetch()} />}
      {kept.data?.length === 0 && (
        <Empty title="None yet">A month's report is kept as it was made, whatever is treated later.</Empty>
      )}
      <ul className="divide-y divide-line">
        {kept.data?.map((one) => (
          <li key={one.month} className="flex flex-wrap items-center gap-3 py-2.5">
            <span className="min-w-40 flex-1">
              <span className="block font-semibold">{monthName(one.month)}</span>
              <span className="text-xs text-quiet">made {when(one.made_at)}</span>
            </span>
            <FileLink href={keptUrl(library.slug, one.month, "pdf")}>PDF</FileLink>
            <FileLink href={keptUrl(library.slug, one.month, "csv")}>CSV</FileLink>
          </li>
        ))}
      </ul>
      {mayKeep && (
        <div className="mt-4 flex flex-wrap items-end gap-3">
          <MonthInput label="Month" value={wanted} max={month} onChange={setWanted} />
          <Button busy={keep.isPending || open} onClick={() => keep.mutate(wanted)}>
            {open ? "Being made" : "Make and keep it"}
          </Button>
          {job?.state === "failed" && !open && <p className="text-sm text-clay">{job.reason}</p>}
        </div>
      )}
      {keep.isError && (
        <div className="mt-3">
          <ErrorNote error={keep.error} />
        </div>
      )}
    </Card>
  );
}
