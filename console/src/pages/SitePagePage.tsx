/** One page: what it weighed, what was predicted, what it weighs now; what to do; its pictures in their places. */

import { ExternalLink } from "lucide-react";
import { useState, type FormEvent } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { Library } from "../api/client";
import { useMay } from "../api/people";
import { useTitle } from "../look/title";
import { underWay } from "../api/queries";
import {
  shotUrl,
  useChangePage,
  useForgetPage,
  useHistory,
  useSitePage,
  useTreatPage,
  useWeigh,
  useWeighings,
  type Device,
  type PageFinding,
  type Reading,
  type SitePage,
  type Weighing,
  type WhatIf,
} from "../api/weighing";
import { bytes, LEVELS, many, saved, type LevelName } from "../look/words";
import { addressOf } from "../pages";
import { PageShot } from "../parts/PageShot";
import { Crate, DEVICES, HistoryPlot, profileOf, seconds, titleOf } from "../parts/PageWeight";
import {
  Button,
  Card,
  Confirm,
  Empty,
  ErrorNote,
  Field,
  INLINE_INPUT,
  INPUT,
  Mind,
  PageTitle,
  Shape,
  Sheet,
  Tick,
} from "../parts/ui";
import { DeviceChoice, useWeighingJob } from "./WeightsPage";

export function SitePagePage({ library }: { library: Library }) {
  const id = Number(useParams().page);
  const page = useSitePage(id);
  const weighings = useWeighings(id);
  useTitle(page.data?.address, library.name);
  if (page.isError) return <ErrorNote error={page.error} again={() => void page.refetch()} />;
  if (weighings.isError) return <ErrorNote error={weighings.error} again={() => void weighings.refetch()} />;
  if (!page.data || !weighings.data) return <Shape className="h-96" />;
  return <ThePage library={library} page={page.data} weighings={weighings.data} />;
}

const readingOf = (weighing: Weighing | undefined, device: Device) =>
  weighing?.readings.find((reading) => reading.device === device);

function ThePage({ library, page, weighings }: { library: Library; page: SitePage; weighings: Weighing[] }) {
  const may = useMay(library.slug);
  const [device, setDevice] = useState<Device>("phone");
  const [search, setSearch] = useSearchParams();
  const [picture, setPicture] = useState<number | null>(null);
  const wanted = Number(search.get("weighing")) || null;
  const there = weighings.filter((weighing) => weighing.code === null);
  const real = there.filter((weighing) => weighing.kind !== "predicted");
  const chosen = there.find((weighing) => weighing.id === wanted) ?? real[0] ?? there[0];
  const choose = (weighing: number) => {
    setPicture(null);
    setSearch({ weighing: String(weighing) }, { replace: true });
  };
  const reading = readingOf(chosen, device) ?? chosen?.readings[0];
  return (
    <>
      <PageTitle
        aside={
          may("treat") && <Actions library={library} page={page} weighings={weighings} chosen={chosen} />
        }
      >
        <span className="break-all text-2xl">{page.address.replace(/^https?:\/\//, "")}</span>
      </PageTitle>
      <p className="-mt-3 mb-5 flex flex-wrap items-center gap-4 text-sm">
        <Link className="text-plum underline" to={addressOf(library.slug, "weights")}>
          All pages
        </Link>
        <a
          className="inline-flex items-center gap-1 text-plum underline"
          href={page.address}
          target="_blank"
          rel="noreferrer"
        >
          Open it <ExternalLink size={13} aria-hidden />
        </a>
      </p>
      {page.fault && (
        <div className="mb-5">
          <Mind>It could not be weighed the last time: {page.fault}.</Mind>
        </div>
      )}
      {!chosen || !reading ? (
        <Empty title="It has not been weighed yet">Weigh it first.</Empty>
      ) : (
        <div className="space-y-5">
          <SideBySide
            library={library}
            real={real}
            there={there}
            chosen={chosen}
            device={device}
            onDevice={setDevice}
          />
          <Budgets weighing={chosen} />
          <Findings weighing={chosen} device={device} onPicture={setPicture} />
          <Card
            title="On the page"
            aside={`${titleOf(chosen.kind, chosen.what_if)}, ${DEVICES[reading.device].toLowerCase()}: ${profileOf(reading)}`}
          >
            <PageShot
              key={`${chosen.id} ${reading.device}`}
              slug={library.slug}
              weighing={chosen}
              reading={reading}
              chosen={picture}
              onChoose={setPicture}
            />
          </Card>
          <Over page={page} device={device} chosen={chosen.id} onChoose={choose} />
        </div>
      )}
    </>
  );
}

/** The first there was, what was predicted, and what is; or the one that was chosen. */
function SideBySide({
  library,
  real,
  there,
  chosen,
  device,
  onDevice,
}: {
  library: Library;
  real: Weighing[];
  there: Weighing[];
  chosen: Weighing;
  device: Device;
  onDevice: (device: Device) => void;
}) {
  const first = real[real.length - 1];
  const predicted =
    chosen.kind === "predicted" ? chosen : there.find((weighing) => weighing.kind === "predicted");
  const now = chosen.kind === "predicted" ? real[0] : chosen;
  const columns = [first, predicted, now]
    .filter(
      (weighing, index, all): weighing is Weighing =>
        weighing !== undefined && all.indexOf(weighing) === index,
    )
    .sort((one, other) => one.id - other.id);
  const shown = columns.flatMap((weighing) => {
    const reading = readingOf(weighing, device);
    return reading ? [{ weighing, reading }] : [];
  });
  const before = shown[0]?.reading;
  const scale = Math.max(...shown.flatMap(({ reading }) => reading.kinds.map((kind) => kind.bytes)), 1);
  return (
    <Card title="Side by side" aside={<DeviceChoice device={device} onChange={onDevice} />}>
      {shown.length === 0 && <p className="text-quiet">The page was not weighed on this device.</p>}
      <div
        className={`grid gap-8 ${shown.length > 2 ? "lg:grid-cols-3" : shown.length === 2 ? "lg:grid-cols-2" : ""}`}
      >
        {shown.map(({ weighing, reading }, index) => (
          <div key={weighing.id} className="min-w-0">
            <Crate
              weighing={weighing}
              reading={reading}
              before={index > 0 ? before : undefined}
              scale={scale}
            />
            <FirstView library={library} reading={reading} />
          </div>
        ))}
      </div>
      <Kept shown={shown} />
    </Card>
  );
}

function FirstView({ library, reading }: { library: Library; reading: Reading }) {
  const shot = reading.shots.find(({ part }) => part === "first");
  if (!shot) return null;
  return (
    <img
      src={shotUrl(library.slug, shot.id)}
      alt="What is seen first"
      loading="lazy"
      width={shot.width}
      height={shot.height}
      className="mt-4 h-56 w-full rounded-[5px] border border-line bg-sunken object-contain object-top"
    />
  );
}

/** How right the predicting was, where it came true. */
function Kept({ shown }: { shown: { weighing: Weighing; reading: Reading }[] }) {
  const predicted = shown.find(({ weighing }) => weighing.kind === "predicted");
  const after = shown.find(
    ({ weighing }) =>
      weighing.kind === "real" && predicted !== undefined && weighing.id > predicted.weighing.id,
  );
  if (!predicted || !after) return null;
  const said = [`${saved(predicted.reading.bytes.median, after.reading.bytes.median)} in bytes`];
  if (predicted.reading.lcp && after.reading.lcp)
    said.push(`${saved(predicted.reading.lcp.median, after.reading.lcp.median)} in the largest paint`);
  return (
    <p className="mt-5 text-sm text-quiet">
      What came differs from what was predicted by {said.join(" and ")}.
    </p>
  );
}

function Budgets({ weighing }: { weighing: Weighing }) {
  if (!weighing.budget) return null;
  if (weighing.over.length === 0)
    return (
      <p className="rounded-[5px] border border-leaf bg-leaf-soft px-4 py-2.5 text-sm text-leaf">
        It keeps its budget.
      </p>
    );
  const say = (name: string, value: number | null) =>
    value === null
      ? "could not be measured"
      : name === "bytes" || name === "pictures"
        ? bytes(value)
        : name === "requests" || name === "cls"
          ? String(value)
          : seconds(value);
  return (
    <Mind>
      Over its budget:{" "}
      {weighing.over
        .map(
          (over) =>
            `${over.name} on ${over.device} ${say(over.name, over.found)}, allowed ${say(over.name, over.allowed)}`,
        )
        .join("; ")}
      .
    </Mind>
  );
}

function Findings({
  weighing,
  device,
  onPicture,
}: {
  weighing: Weighing;
  device: Device;
  onPicture: (number: number) => void;
}) {
  const here = weighing.findings.filter((finding) => finding.device === device);
  const [all, setAll] = useState(false);
  return (
    <Card title="What to do" aside="the worst first">
      {here.length === 0 ? (
        <p className="text-quiet">This page has nothing to gain from lighter pictures.</p>
      ) : (
        <ul className="divide-y divide-line">
          {(all ? here : here.slice(0, 6)).map((finding) => (
            <Finding
              key={`${finding.code} ${finding.pictures.join()}`}
              finding={finding}
              onPicture={onPicture}
            />
          ))}
        </ul>
      )}
      {here.length > 6 && (
        <Button look="quiet" className="mt-2" onClick={() => setAll(!all)}>
          {all ? "Only the worst" : `All ${here.length}`}
        </Button>
      )}
    </Card>
  );
}

function Finding({ finding, onPicture }: { finding: PageFinding; onPicture: (number: number) => void }) {
  const won = [
    finding.bytes > 0 && `−${bytes(finding.bytes)}`,
    finding.seconds >= 0.1 && `−${seconds(finding.seconds)}`,
  ]
    .filter(Boolean)
    .join(", ");
  return (
    <li className="grid gap-x-5 gap-y-1 py-3 sm:grid-cols-[7rem_minmax(0,1fr)]">
      <span className={`font-serif text-lg ${won ? "text-leaf" : "text-clay"}`}>{won || "to mend"}</span>
      <div>
        <p>
          {finding.pictures.slice(0, 8).map((number) => (
            <button
              key={number}
              type="button"
              className="mr-1 rounded bg-plum px-1.5 text-xs font-bold text-on-plum"
              aria-label={`Show picture ${number}`}
              onClick={() => onPicture(number)}
            >
              {number}
            </button>
          ))}
          {finding.pictures.length > 8 && (
            <span className="mr-1 text-quiet">and {finding.pictures.length - 8} more </span>
          )}
          {finding.text[0]!.toUpperCase() + finding.text.slice(1)}.
        </p>
        <p className="text-sm text-quiet">{finding.action}</p>
      </div>
    </li>
  );
}

function Over({
  page,
  device,
  chosen,
  onChoose,
}: {
  page: SitePage;
  device: Device;
  chosen: number;
  onChoose: (weighing: number) => void;
}) {
  const history = useHistory(page.id);
  return (
    <Card title="Over time" aside="filled: as it was; hollow: predicted. Choose one to look at it.">
      {history.isError && <ErrorNote error={history.error} again={() => void history.refetch()} />}
      {history.isPending && <Shape className="h-40" />}
      {history.data && (
        <div className="overflow-x-auto">
          <HistoryPlot
            points={history.data.filter((point) => point.device === device)}
            chosen={chosen}
            onChoose={onChoose}
          />
        </div>
      )}
    </Card>
  );
}

// -- what can be done --------------------------------------------------------------------------------

function Actions({
  library,
  page,
  weighings,
  chosen,
}: {
  library: Library;
  page: SitePage;
  weighings: Weighing[];
  chosen: Weighing | undefined;
}) {
  const [sheet, setSheet] = useState<"what-if" | "settings" | "treat" | null>(null);
  const weigh = useWeigh(library.slug);
  const job = useWeighingJob(library.slug);
  const busy = underWay(job);
  const close = () => setSheet(null);
  const ours = chosen?.readings.some((reading) =>
    reading.pictures.some((picture) => picture.library === library.slug),
  );
  return (
    <>
      {busy && (
        <span role="status" className="text-sm text-quiet">
          Weighing{job?.weighing?.at ? "" : ", soon"} …
        </span>
      )}
      {weigh.isError && <ErrorNote error={weigh.error} />}
      <Button onClick={() => setSheet("settings")}>Settings</Button>
      <Button onClick={() => setSheet("what-if")} disabled={busy}>
        What if …
      </Button>
      {ours && chosen && <Button onClick={() => setSheet("treat")}>Treat what it shows</Button>}
      <Button
        look="main"
        busy={weigh.isPending}
        disabled={busy}
        onClick={() => weigh.mutate({ addresses: [page.address] })}
      >
        {weighings.length ? "Weigh again" : "Weigh"}
      </Button>
      <WhatIfSheet
        open={sheet === "what-if"}
        onClose={close}
        start={(what_if) => {
          weigh.mutate({ addresses: [page.address], what_if });
          close();
        }}
      />
      <SettingsSheet
        key={`${sheet} ${page.id}`}
        library={library}
        page={page}
        open={sheet === "settings"}
        onClose={close}
      />
      {chosen && <TreatSheet library={library} weighing={chosen} open={sheet === "treat"} onClose={close} />}
    </>
  );
}

function WhatIfSheet({
  open,
  onClose,
  start,
}: {
  open: boolean;
  onClose: () => void;
  start: (what_if: WhatIf[]) => void;
}) {
  const [levels, setLevels] = useState<(LevelName | "recipe")[]>(["recipe"]);
  const [fit, setFit] = useState(false);
  const [markup, setMarkup] = useState(true);
  const toggle = (level: LevelName | "recipe", on: boolean) =>
    setLevels(on ? [...levels, level] : levels.filter((each) => each !== level));
  return (
    <Sheet open={open} onClose={onClose} title="What if?">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          start(levels.map((level) => ({ ...(level === "recipe" ? {} : { level }), fit, markup })));
        }}
      >
        <p className="text-sm text-quiet">
          The page is weighed once more for each, with its pictures as they would be, answered inside the
          browser. Pictures are treated in memory; the library stays as it is.
        </p>
        <fieldset className="space-y-2">
          <legend className="mb-1 text-sm font-semibold">Treated</legend>
          <Tick
            label="By the recipe in use"
            on={levels.includes("recipe")}
            onChange={(on) => toggle("recipe", on)}
          />
          {(Object.keys(LEVELS) as LevelName[]).map((level) => (
            <Tick
              key={level}
              label={`At ${LEVELS[level].name.toLowerCase()}`}
              hint={LEVELS[level].for}
              on={levels.includes(level)}
              onChange={(on) => toggle(level, on)}
            />
          ))}
        </fieldset>
        <Tick
          label="In the size that each place needs"
          hint="As if there were a derived size for every place."
          on={fit}
          onChange={setFit}
        />
        <Tick
          label="With our markup"
          hint="As if pages were rewritten: copies, sizes, late loading."
          on={markup}
          onChange={setMarkup}
        />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Leave it</Button>
          <Button type="submit" look="main" disabled={levels.length === 0 || levels.length > 4}>
            Predict
          </Button>
        </div>
        {levels.length > 4 && <p className="text-sm text-clay">Four at a time.</p>}
      </form>
    </Sheet>
  );
}

function TreatSheet({
  library,
  weighing,
  open,
  onClose,
}: {
  library: Library;
  weighing: Weighing;
  open: boolean;
  onClose: () => void;
}) {
  const treat = useTreatPage();
  const navigate = useNavigate();
  const [everything, setEverything] = useState(false);
  const rows = weighing.readings
    .flatMap((reading) => reading.pictures)
    .filter((picture) => picture.library === library.slug && (everything || picture.first_view));
  const number = new Set(rows.map((picture) => picture.picture_id)).size;
  return (
    <Confirm
      open={open}
      onClose={onClose}
      title="Treat what this page shows"
      action="Treat"
      busy={treat.isPending}
      error={treat.error}
      onConfirm={() =>
        treat.mutate(
          { weighing: weighing.id, everything },
          { onSuccess: (run) => void navigate(addressOf(library.slug, `treat/${run.id}`)) },
        )
      }
    >
      <p>
        {many(number, "picture")} with all their files, by the recipe in use, before all that waits. Every
        original is backed up and can be put back.
      </p>
      <Tick label="Also what is below the first view" on={everything} onChange={setEverything} />
    </Confirm>
  );
}

const BUDGETS = [
  ["bytes", "Whole page", "kB", 1000],
  ["pictures", "Pictures", "kB", 1000],
  ["requests", "Requests", "", 1],
  ["lcp", "Largest paint", "s", 1],
  ["fcp", "First paint", "s", 1],
  ["load", "Loaded", "s", 1],
  ["cls", "Jumps", "", 1],
] as const;

function SettingsSheet({
  library,
  page,
  open,
  onClose,
}: {
  library: Library;
  page: SitePage;
  open: boolean;
  onClose: () => void;
}) {
  const change = useChangePage(library.slug, page.address);
  const forget = useForgetPage();
  const navigate = useNavigate();
  const [budget, setBudget] = useState<Record<string, string>>(() =>
    Object.fromEntries(
      BUDGETS.map(([name, , , unit]) => [
        name,
        page.budget?.[name] == null ? "" : String(page.budget[name] / unit),
      ]),
    ),
  );
  const [schedule, setSchedule] = useState(page.schedule ?? "");
  const [afterRuns, setAfterRuns] = useState(page.after_runs);
  const [signIn, setSignIn] = useState<string | null>(null);
  const [sure, setSure] = useState(false);
  const save = (event: FormEvent) => {
    event.preventDefault();
    const given = BUDGETS.filter(([name]) => budget[name]!.trim() !== "").map(([name, , , unit]) => [
      name,
      unit === 1000 ? Math.round(Number(budget[name]) * unit) : Number(budget[name]),
    ]);
    change.mutate(
      {
        budget: given.length ? (Object.fromEntries(given) as Record<string, number>) : null,
        schedule: schedule.trim() || null,
        after_runs: afterRuns,
        secrets: signIn === null ? null : secretsOf(signIn),
      },
      { onSuccess: onClose },
    );
  };
  return (
    <Sheet open={open} onClose={onClose} title="Settings of this page">
      <form className="space-y-4" onSubmit={save}>
        <fieldset>
          <legend className="mb-1 text-sm font-semibold">
            Budget: the most that the page may weigh or take, on any device
          </legend>
          <div className="grid grid-cols-2 gap-x-4 gap-y-2">
            {BUDGETS.map(([name, label, unit]) => (
              <label key={name} className="flex items-center justify-between gap-2 text-sm">
                {label}
                <span className="inline-flex items-center gap-1">
                  <input
                    type="number"
                    min={0}
                    step="any"
                    className={`${INLINE_INPUT} w-20 text-right`}
                    value={budget[name]}
                    onChange={(event) => setBudget({ ...budget, [name]: event.target.value })}
                  />{" "}
                  <span className="w-5 text-quiet">{unit}</span>
                </span>
              </label>
            ))}
          </div>
        </fieldset>
        <Field
          label="Weighed by itself"
          hint="Minute, hour, day, month, weekday: 30 6 * * 1 is Mondays at half past six. Empty: never."
        >
          <input
            className={`${INPUT} font-mono`}
            value={schedule}
            onChange={(event) => setSchedule(event.target.value)}
            placeholder="30 6 * * 1"
          />
        </Field>
        <Tick label="Also when a run has finished" on={afterRuns} onChange={setAfterRuns} />
        <Field
          label={`Signs in: ${page.has_secrets ? "yes, sealed" : "no"}`}
          hint="Lines such as Cookie: name=value or Authorization: …; sent to this page's host alone, never shown again. Leave it as it is to keep what is there; empty it to forget."
        >
          <textarea
            rows={2}
            className={`${INPUT} font-mono`}
            value={signIn ?? ""}
            placeholder={page.has_secrets ? "kept as it is" : ""}
            onChange={(event) => setSignIn(event.target.value)}
            autoComplete="off"
            spellCheck={false}
          />
        </Field>
        {change.isError && <ErrorNote error={change.error} />}
        {forget.isError && <ErrorNote error={forget.error} />}
        <div className="flex justify-between gap-2">
          <Button
            look="danger"
            busy={forget.isPending}
            onClick={() =>
              sure
                ? forget.mutate(page.id, {
                    onSuccess: () => void navigate(addressOf(library.slug, "weights")),
                  })
                : setSure(true)
            }
          >
            {sure ? `Yes, forget ${many(page.weighings, "weighing")}` : "Forget this page"}
          </Button>
          <Button type="submit" look="main" busy={change.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Sheet>
  );
}

export function secretsOf(text: string): {
  cookies: { name: string; value: string }[];
  headers: { name: string; value: string }[];
} {
  const cookies: { name: string; value: string }[] = [];
  const headers: { name: string; value: string }[] = [];
  for (const line of text
    .split("\n")
    .map((each) => each.trim())
    .filter((each) => each.includes(":"))) {
    const [name, value] = [line.slice(0, line.indexOf(":")).trim(), line.slice(line.indexOf(":") + 1).trim()];
    if (name.toLowerCase() !== "cookie") headers.push({ name, value });
    else
      for (const pair of value
        .split(";")
        .map((each) => each.trim())
        .filter(Boolean)) {
        const [key = "", ...rest] = pair.split("=");
        cookies.push({ name: key, value: rest.join("=") });
      }
  }
  return { cookies, headers };
}
