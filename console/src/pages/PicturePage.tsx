/** One picture: before and after side by side, all its files, what was done, and putting it back. */

import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import {
  contentUrl,
  type Library,
  type PictureDetail,
  type PictureFile,
  type WorstPlace,
} from "../api/client";
import { useMay } from "../api/people";
import { useFormats, usePicture, usePlan, useSetOverride, useStartRun } from "../api/queries";
import { bytes, count, LEVELS, many, points, saved, STATE_WORDS, when, type LevelName } from "../look/words";
import { Compare, type Side } from "../parts/Compare";
import { CutsCard } from "../parts/Cuts";
import { Slat } from "../parts/Slat";
import {
  Button,
  Card,
  Confirm,
  ErrorNote,
  Field,
  INLINE_INPUT,
  INPUT,
  PageTitle,
  Shape,
  Tag,
} from "../parts/ui";

export function PicturePage({ library }: { library: Library }) {
  const picture = usePicture(Number(useParams().picture));
  if (picture.isPending) return <Shape className="h-[70vh]" />;
  if (picture.isError) return <ErrorNote error={picture.error} again={() => void picture.refetch()} />;
  return <ThePicture library={library} picture={picture.data} />;
}

function ThePicture({ library, picture }: { library: Library; picture: PictureDetail }) {
  return (
    <>
      <p className="mb-1 text-sm">
        <Link
          to={`/l/${library.slug}/review?folder=${encodeURIComponent(picture.folder)}`}
          className="text-plum hover:underline"
        >
          {picture.folder || "top folder"}
        </Link>
      </p>
      <PageTitle aside={<Actions library={library} picture={picture} />}>
        <span className="break-all">{picture.name}</span>{" "}
        <Tag state={picture.state}>{STATE_WORDS[picture.state]}</Tag>
      </PageTitle>
      {picture.reason && <p className="mb-4 text-clay">{picture.reason}</p>}
      <Comparison picture={picture} />
      <div className="mt-5 grid gap-5 lg:grid-cols-3">
        <Files picture={picture} />
        <div className="space-y-5">
          <CutsCard slug={library.slug} picture={picture} />
          <ItsWay library={library} picture={picture} />
          <History picture={picture} />
        </div>
      </div>
    </>
  );
}

interface Version {
  key: string;
  name: string;
  size: number;
  score: number | null;
  worst_place: WorstPlace | null;
}

/** What of a file can be looked at: as it first was, as it is, and what stands beside it. */
export function versionsOf(file: PictureFile, label: (format: string) => string): Version[] {
  const found: Version[] = [
    { key: "before", name: "Before", size: file.size_before, score: null, worst_place: null },
  ];
  if (file.size_now !== file.size_before && file.state !== "removed") {
    found.push({
      key: "now",
      name: "Now",
      size: file.size_now,
      score: file.score,
      worst_place: file.worst_place ?? null,
    });
  }
  for (const { format, purpose, size, score, worst_place } of file.derived) {
    found.push({
      key: format,
      name: `${label(format)} ${purpose}`,
      size,
      score,
      worst_place: worst_place ?? null,
    });
  }
  return found;
}

/** The file, and the version of it, whose worst place is the worst of all. */
export function worstOf(files: PictureFile[]): { file: PictureFile; key: string } | undefined {
  return files
    .flatMap((file) => [
      { file, key: "now", worst_place: file.worst_place },
      ...file.derived.map((derived) => ({ file, key: derived.format, worst_place: derived.worst_place })),
    ])
    .filter((found) => found.worst_place)
    .sort((a, b) => (a.worst_place?.score ?? 0) - (b.worst_place?.score ?? 0))[0];
}

function Comparison({ picture }: { picture: PictureDetail }) {
  const atWorst = useSearchParams()[0].get("at") === "worst";
  const { shown, label } = useFormats();
  const readable = picture.all_files.filter(
    (file) => file.width > 0 && shown.some((format) => format.name === file.format),
  );
  const worst = atWorst ? worstOf(readable) : undefined;
  const [fileId, setFileId] = useState<number | null>(null);
  const file = readable.find((one) => one.id === fileId) ?? worst?.file ?? readable[0];
  const [left, setLeft] = useState("before");
  const [chosen, setRight] = useState<string | null>(null);
  const right = chosen ?? worst?.key ?? "now";
  if (!file)
    return (
      <p className="rounded-md bg-sunken p-8 text-center text-quiet">
        This file cannot be shown as a picture.
      </p>
    );
  const versions = versionsOf(file, label);
  const pick = (wanted: string, fallback: number) =>
    versions.find((one) => one.key === wanted) ?? versions[Math.min(fallback, versions.length - 1)];
  const one = pick(left, 0) as Version;
  const other = pick(right, 1) as Version;
  const side = (version: Version): Side => ({
    name: version.name,
    url: contentUrl(file.id, version.key, `${file.size_now}-${version.size}`),
    facts: `${bytes(version.size)}${version.key === "before" ? "" : `, ${saved(file.size_before, version.size)}`}${version.score == null ? "" : `, score ${points(version.score)}`}${version.worst_place ? `, worst place ${version.worst_place.score.toFixed(0)}` : ""}`,
  });
  return (
    <>
      <div className="mb-2 grid gap-2 sm:grid-cols-3">
        <select
          aria-label="On the left"
          className={INPUT}
          value={one.key}
          onChange={(event) => setLeft(event.target.value)}
        >
          {versions.map((version) => (
            <option key={version.key} value={version.key}>
              Left: {version.name}, {bytes(version.size)}
            </option>
          ))}
        </select>
        <select
          aria-label="On the right"
          className={INPUT}
          value={other.key}
          onChange={(event) => setRight(event.target.value)}
        >
          {versions.map((version) => (
            <option key={version.key} value={version.key}>
              Right: {version.name}, {bytes(version.size)}
            </option>
          ))}
        </select>
        <select
          aria-label="Which file"
          className={INPUT}
          value={file.id}
          onChange={(event) => setFileId(Number(event.target.value))}
        >
          {readable.map((each) => (
            <option key={each.id} value={each.id}>
              {each.role === "original" ? "Original" : "Rendition"}, {count(each.width)} ×{" "}
              {count(each.height)}
            </option>
          ))}
        </select>
      </div>
      {file.shown_width &&
        Math.abs(file.shown_width / (file.shown_height ?? 1) / (file.width / file.height) - 1) > 0.02 && (
          <p className="mb-2 text-sm text-quiet">
            It was cut or turned: both sides are drawn in one frame here, so one of them is stretched.
          </p>
        )}
      <Compare
        key={file.id}
        left={side(one)}
        right={side(other)}
        width={file.width}
        height={file.height}
        worstPlace={other.worst_place ?? one.worst_place}
        atWorst={atWorst}
      />
    </>
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
  return (
    <>
      {may("treat") && (
        <select
          aria-label="Level for this picture"
          className={INLINE_INPUT}
          value={level}
          onChange={(event) => setLevel(event.target.value as LevelName)}
        >
          {Object.entries(LEVELS).map(([key, { name }]) => (
            <option key={key} value={key}>
              {name}
            </option>
          ))}
        </select>
      )}
      {may("treat") && (
        <Button look="main" busy={start.isPending} onClick={() => go("treat")}>
          {picture.state === "new" ? "Treat" : "Treat again"}
        </Button>
      )}
      {may("mend") && (
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
                  name={`${label(one.format)} ${one.purpose}`}
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

const DONE: Record<string, string> = {
  replace: "made lighter",
  restore: "put back",
  copy: "copy written",
  size: "made for a size",
  "drop-size": "removed, no size asks for it",
  "touched-up": "touch-ups changed",
  "drop-copy": "copy removed",
  withdraw: "first file removed",
  "put-back": "first file put back",
  prune: "backup deleted",
};

const OWN = ["exact", "gallery", "everyday", "lean", "leave"] as const;

/** What a run would do to this picture, and its own level when it has one. */
function ItsWay({ library, picture }: { library: Library; picture: PictureDetail }) {
  const may = useMay(library.slug);
  const choices = OWN.filter((one) => may("treat") || one === "leave" || one === picture.override);
  const plan = usePlan(picture.id);
  const own = useSetOverride(picture.id);
  return (
    <Card title="What the next run does">
      <Field label="This picture">
        <select
          className={INPUT}
          value={picture.override ?? ""}
          disabled={
            !may("treat") && !(may("mend") && (picture.override === null || picture.override === "leave"))
          }
          onChange={(event) => own.mutate(OWN.find((one) => one === event.target.value) ?? null)}
        >
          <option value="">follows the recipe</option>
          {choices.map((one) => (
            <option key={one} value={one}>
              {one === "leave" ? "is left alone for ever" : `has its own level, ${LEVELS[one].name}`}
            </option>
          ))}
        </select>
      </Field>
      {own.isError && <ErrorNote error={own.error} />}
      {plan.isError && <ErrorNote error={plan.error} />}
      <ul className="mt-3 space-y-1.5 text-sm">
        {plan.data?.map((one) => (
          <li key={one.path}>
            <span className="font-mono text-xs">{one.path.split("/").pop()}</span>
            <span className="block text-quiet">
              {one.because}
              {one.level && one.verdict !== "settled" ? `, at ${LEVELS[one.level].name}` : ""}
            </span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function History({ picture }: { picture: PictureDetail }) {
  return (
    <Card title="History">
      {picture.history.length === 0 ? (
        <p className="text-quiet">Nothing has been done to this picture.</p>
      ) : (
        <ol className="space-y-2 text-sm">
          {picture.history.slice(0, 40).map((entry) => (
            <li key={entry.id}>
              <div className="flex justify-between gap-2">
                <span className="font-semibold">{DONE[entry.action] ?? entry.action}</span>
                <span className="whitespace-nowrap text-xs text-quiet">{when(entry.at)}</span>
              </div>
              <div className="truncate font-mono text-xs text-quiet" title={entry.path}>
                {entry.path.split("/").pop()}
              </div>
              {entry.bytes_before != null && entry.bytes_after != null && (
                <div className="text-xs text-quiet">
                  {bytes(entry.bytes_before)} to {bytes(entry.bytes_after)}
                </div>
              )}
            </li>
          ))}
        </ol>
      )}
    </Card>
  );
}
