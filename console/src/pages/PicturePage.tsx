/** One picture: any version of its files against any other, what was done, what comes next, and putting it back. */

import { ChevronLeft, ChevronRight } from "lucide-react";
import { useEffect, useState } from "react";
import { Link, useLocation, useNavigate, useParams } from "react-router";
import type { Library, PictureDetail, Plan } from "../api/client";
import { useMay } from "../api/people";
import { useFormats, usePicture, usePlan, useSetOverride, useStartRun } from "../api/queries";
import { useTitle } from "../look/title";
import { bytes, count, LEVELS, many, points, saved, STATE_WORDS, type LevelName } from "../look/words";
import { Comparison, derivedName } from "../parts/Comparison";
import { LevelsCard } from "../parts/LevelsCard";
import { CutsCard } from "../parts/Cuts";
import { PictureHistory } from "../parts/PictureHistory";
import { SaysCard } from "../parts/SaysCard";
import { Select } from "../parts/Select";
import { Slat } from "../parts/Slat";
import { Button, Card, Confirm, ErrorNote, PageTitle, Shape, Tag } from "../parts/ui";

/** From which list somebody came, and what stands beside the picture there. */
export interface FromList {
  numbers: number[];
  search: string;
}

export function PicturePage({ library }: { library: Library }) {
  const picture = usePicture(Number(useParams().picture));
  useTitle(picture.data?.name, library.name);
  if (picture.isPending) return <Shape className="h-[70vh]" />;
  if (picture.isError) return <ErrorNote error={picture.error} again={() => void picture.refetch()} />;
  return <ThePicture key={picture.data.id} library={library} picture={picture.data} />;
}

function ThePicture({ library, picture }: { library: Library; picture: PictureDetail }) {
  const navigate = useNavigate();
  const start = useStartRun();
  const treats = useMay(library.slug)("treat");
  const apply = (level: LevelName) =>
    start.mutate(
      { library: library.slug, kind: "treat", level, scope: { pictures: [picture.id] }, force: true },
      { onSuccess: (run) => void navigate(`/l/${library.slug}/treat/${run.id}`) },
    );
  return (
    <>
      <Above library={library} picture={picture} />
      <PageTitle aside={<Actions library={library} picture={picture} />}>
        <span className="break-all">{picture.name}</span>{" "}
        <Tag state={picture.state}>{STATE_WORDS[picture.state]}</Tag>
      </PageTitle>
      {picture.reason && <p className="mb-4 text-clay">{picture.reason}</p>}
      <Comparison picture={picture} />
      <div className="mt-6">
        <LevelsCard picture={picture} busy={start.isPending} onApply={treats ? apply : undefined} />
      </div>
      <div className="mt-6 grid items-start gap-5 lg:grid-cols-3">
        <Files picture={picture} />
        <div className="space-y-5">
          <ItsWay library={library} picture={picture} />
          <SaysCard library={library} picture={picture} />
          <PictureHistory picture={picture} />
          <CutsCard slug={library.slug} picture={picture} />
        </div>
      </div>
    </>
  );
}

/** The way back to the list, and to what stands beside the picture there. */
function Above({ library, picture }: { library: Library; picture: PictureDetail }) {
  const navigate = useNavigate();
  const location = useLocation();
  const from = location.state as FromList | null;
  const at = from?.numbers.indexOf(picture.id) ?? -1;
  const before = at > 0 ? from?.numbers[at - 1] : undefined;
  const after = at >= 0 ? from?.numbers[at + 1] : undefined;
  const to = (number: number) => `/l/${library.slug}/review/${number}${location.search}`;
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const typing =
        event.target instanceof HTMLElement && event.target.closest("input, textarea, [role=dialog]");
      if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
      const number = event.key === "n" ? after : event.key === "p" ? before : undefined;
      if (number !== undefined) void navigate(to(number), { state: from, replace: true });
    };
    addEventListener("keydown", onKey);
    return () => removeEventListener("keydown", onKey);
  });
  const step = (number: number | undefined, name: string, Icon: typeof ChevronLeft) =>
    number !== undefined && (
      <Link
        to={to(number)}
        state={from}
        replace
        aria-label={name}
        title={`${name} (${name[0]?.toLowerCase()})`}
        className="rounded p-1 text-plum hover:bg-plum-soft"
      >
        <Icon size={17} />
      </Link>
    );
  return (
    <div className="mb-1 flex items-center gap-2 text-sm">
      <Link
        to={
          from
            ? `/l/${library.slug}/review${from.search}`
            : `/l/${library.slug}/review?folder=${encodeURIComponent(picture.folder)}`
        }
        className="text-plum hover:underline"
      >
        {from ? "Review" : picture.folder || "top folder"}
      </Link>
      {at >= 0 && (
        <span className="flex items-center gap-0.5 text-quiet">
          {step(before, "Previous picture", ChevronLeft)}
          {step(after, "Next picture", ChevronRight)}
        </span>
      )}
      {from && <span className="truncate text-quiet">{picture.folder || "top folder"}</span>}
    </div>
  );
}

function Actions({ library, picture }: { library: Library; picture: PictureDetail }) {
  const navigate = useNavigate();
  const start = useStartRun();
  const [restoring, setRestoring] = useState(false);
  const [level, setLevel] = useState<LevelName>(picture.all_files[0]?.level ?? library.level);
  const touched = picture.all_files.filter((file) => file.has_backup || file.derived.length > 0);
  const copies = picture.all_files.reduce((sum, file) => sum + file.derived.length, 0);
  const go = (kind: "treat" | "restore") =>
    start.mutate(
      {
        library: library.slug,
        kind,
        ...(kind === "treat" && { level }),
        scope: { pictures: [picture.id] },
        force: kind === "treat",
      },
      { onSuccess: (run) => void navigate(`/l/${library.slug}/treat/${run.id}`) },
    );
  const may = useMay(library.slug);
  const { shaped } = useFormats();
  return (
    <>
      {may("treat") && (
        <Select
          label="Level for this picture"
          value={level}
          options={Object.entries(LEVELS).map(([value, { name, for: hint }]) => ({ value, name, hint }))}
          onChange={(to) => setLevel(to as LevelName)}
        />
      )}
      {may("treat") && (
        <Button look="main" busy={start.isPending} onClick={() => go("treat")}>
          {picture.state === "new" ? "Treat" : "Treat again"}
        </Button>
      )}
      {may("mend") && shaped(picture.all_files[0]?.format) && (
        <Link
          to={`/l/${library.slug}/review/${picture.id}/touch`}
          className="inline-flex min-h-9 items-center rounded-[5px] border border-line bg-surface px-3.5 py-1.5 text-sm font-semibold hover:border-plum hover:text-plum"
        >
          Touch up
        </Link>
      )}
      {may("mend") && (
        <Button disabled={touched.length === 0} onClick={() => setRestoring(true)}>
          Put the original back
        </Button>
      )}
      {start.isError && !restoring && <ErrorNote error={start.error} />}
      <Confirm
        open={restoring}
        onClose={() => setRestoring(false)}
        title="Put the original back"
        action="Put it back"
        busy={start.isPending}
        error={start.error}
        onConfirm={() => go("restore")}
      >
        <p>
          {many(touched.length, "file")} of this picture will hold exactly the bytes they had before, and{" "}
          {many(copies, "copy", "copies")} of ours will be removed.
        </p>
        <p className="text-sm text-quiet">Treating it again later gives the same result as now.</p>
      </Confirm>
    </>
  );
}

function Files({ picture }: { picture: PictureDetail }) {
  const scale = Math.max(...picture.all_files.map((file) => file.size_before), 1);
  const { label } = useFormats();
  return (
    <Card
      className="lg:col-span-2"
      title={many(picture.files, "file")}
      aside={`${bytes(picture.bytes_before)} became ${bytes(picture.bytes_now)}, lightest ${bytes(picture.bytes_lightest)}`}
    >
      <ul className="divide-y divide-line">
        {picture.all_files.map((file) => (
          <li key={file.id} className="py-3">
            <div className="flex flex-wrap items-baseline justify-between gap-x-4">
              <span className="min-w-0 break-all font-mono text-xs">{file.path}</span>
              <span className="text-sm text-quiet">
                {file.size_name ? `made for ${file.size_name}` : file.role},{" "}
                {count(file.shown_width ?? file.width)} × {count(file.shown_height ?? file.height)}
              </span>
            </div>
            <div className="my-1.5">
              <Slat
                before={file.size_before}
                now={file.size_now}
                scale={scale}
                format={file.format ?? undefined}
              />
            </div>
            <dl className="flex flex-wrap gap-x-5 gap-y-1 text-sm">
              {!file.size_name && <Fact name="before" value={bytes(file.size_before)} />}
              <Fact
                name={file.size_name ? "weighs" : "now"}
                value={bytes(file.size_now)}
                more={file.size_name ? undefined : saved(file.size_before, file.size_now)}
              />
              {file.derived.map((one) => (
                <Fact
                  key={`${one.purpose} ${one.format}`}
                  name={derivedName(one, label)}
                  value={bytes(one.size)}
                  more={`${saved(file.size_before, one.size)}, ${one.how}, score ${points(one.score)}`}
                />
              ))}
              {file.how && <Fact name="how" value={`${file.level}: ${file.how}`} />}
              {file.score != null && <Fact name="lowest score" value={points(file.score)} />}
            </dl>
            {file.reason && <p className="mt-1 text-sm text-quiet">{file.reason}</p>}
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Fact({ name, value, more }: { name: string; value: string; more?: string }) {
  return (
    <div className="flex gap-1.5">
      <dt className="text-quiet">{name}</dt>
      <dd className="font-semibold">
        {value}
        {more && <span className="ml-1 font-normal text-leaf">{more}</span>}
      </dd>
    </div>
  );
}

const OWN = ["exact", "gallery", "everyday", "lean", "leave"] as const;

interface Alike {
  because: string;
  level: LevelName | undefined;
  paths: string[];
}

/** What is so of several files is said once. */
export function alike(plan: Pick<Plan, "because" | "level" | "verdict" | "path">[]): Alike[] {
  const found = new Map<string, Alike>();
  for (const { because, level, verdict, path } of plan) {
    const own = verdict === "settled" ? undefined : (level ?? undefined);
    const key = `${because} ${own}`;
    const one = found.get(key) ?? { because, level: own, paths: [] };
    one.paths.push(path.split("/").pop() ?? path);
    found.set(key, one);
  }
  return [...found.values()];
}

const named = (paths: string[]) => (paths.length === 1 ? paths[0] : many(paths.length, "file"));

/** What a run would do to this picture, and its own level when it has one. */
function ItsWay({ library, picture }: { library: Library; picture: PictureDetail }) {
  const may = useMay(library.slug);
  const choices = OWN.filter((one) => may("treat") || one === "leave" || one === picture.override);
  const plan = usePlan(picture.id);
  const own = useSetOverride(picture.id);
  return (
    <Card title="What the next run does">
      <div>
        <Select
          label="This picture"
          className="w-full"
          value={picture.override ?? ""}
          disabled={
            !may("treat") && !(may("mend") && (picture.override === null || picture.override === "leave"))
          }
          options={[
            { value: "", name: "goes by the recipe" },
            ...choices.map((one) => ({
              value: one,
              name: one === "leave" ? "is left alone for ever" : `has its own level, ${LEVELS[one].name}`,
            })),
          ]}
          onChange={(to) => own.mutate(OWN.find((one) => one === to) ?? null)}
        />
      </div>
      {own.isError && <ErrorNote error={own.error} />}
      {plan.isError && <ErrorNote error={plan.error} />}
      <ul className="mt-3 space-y-2 text-sm">
        {alike(plan.data ?? []).map(({ because, level, paths }) => (
          <li key={`${because}${level}`}>
            <span title={paths.join("\n")} className="font-semibold">
              {paths.length === picture.files ? "All its files" : named(paths)}
            </span>
            <span className="block text-quiet">
              {because}
              {level && `, at ${LEVELS[level].name}`}
            </span>
          </li>
        ))}
      </ul>
    </Card>
  );
}
