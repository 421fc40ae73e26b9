/** A picture's files and their versions, any one against any other, each chosen by what it looks like and weighs. */

import { ToggleGroup } from "radix-ui";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { contentUrl, previewUrl, type PictureDetail, type PictureFile, type WorstPlace } from "../api/client";
import { useFormats } from "../api/queries";
import { bytes, count, points, saved } from "../look/words";
import { Compare, type Side } from "./Compare";
import { ScorePlot } from "./ScorePlot";

export interface Version {
  key: string;
  name: string;
  size: number;
  score: number | null;
  worst_place: WorstPlace | null;
}

/** Before the format of a leaner copy, in a version's key. */
const LEANER = "save-data-";

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
  for (const derived of file.derived) {
    found.push({
      key: derived.purpose === "save-data" ? `${LEANER}${derived.format}` : derived.format,
      name: derivedName(derived, label),
      size: derived.size,
      score: derived.score,
      worst_place: derived.worst_place ?? null,
    });
  }
  return found;
}

/** What a derived file is called: its format, and what it is for. */
export function derivedName(
  { format, purpose }: PictureFile["derived"][number],
  label: (format: string) => string,
): string {
  return `${label(format)} ${purpose === "save-data" ? "leaner copy" : purpose}`;
}

/** The file, and the version of it, whose worst place is the worst of all. */
export function worstOf(files: PictureFile[]): { file: PictureFile; key: string } | undefined {
  return files
    .flatMap((file) => [
      { file, key: "now", worst_place: file.worst_place },
      ...file.derived
        .filter(({ purpose }) => purpose !== "save-data")
        .map((derived) => ({ file, key: derived.format, worst_place: derived.worst_place })),
    ])
    .filter((found) => found.worst_place)
    .sort((a, b) => (a.worst_place?.score ?? 0) - (b.worst_place?.score ?? 0))[0];
}

/** Whether a file's proportions are no longer those of its original. */
function recut(file: PictureFile): boolean {
  if (!file.shown_width || !file.shown_height) return false;
  return Math.abs(file.shown_width / file.shown_height / (file.width / file.height) - 1) > 0.02;
}

export function Comparison({ picture }: { picture: PictureDetail }) {
  const atWorst = useSearchParams()[0].get("at") === "worst";
  const { shown, label } = useFormats();
  const inBrowsers = (format: string | null) => format === "svg" || shown.some(({ name }) => name === format);
  const readable = picture.all_files.filter((file) => file.format !== null && file.state !== "unreadable");
  const worst = atWorst ? worstOf(readable) : undefined;
  const [fileId, setFileId] = useState<number | null>(null);
  const file = readable.find((one) => one.id === fileId) ?? worst?.file ?? readable[0];
  const [left, setLeft] = useState("before");
  const [chosen, setRight] = useState<string | null>(null);
  if (!file)
    return (
      <p className="rounded-md bg-sunken p-8 text-center text-quiet">
        This file cannot be shown as a picture.
      </p>
    );
  const right = chosen ?? worst?.key ?? "now";
  const versions = versionsOf(file, label);
  const pick = (wanted: string, fallback: number) =>
    versions.find((one) => one.key === wanted) ?? versions[Math.min(fallback, versions.length - 1)];
  const one = pick(left, 0) as Version;
  const other = pick(right, 1) as Version;
  const formatOf = ({ key }: Version) =>
    key === "before" || key === "now" ? file.format : key.replace(LEANER, "");
  // A file that no browser shows is looked at as the service draws it, its first page where it has several.
  const drawn = file.width === 0 || !inBrowsers(file.format);
  const side = (version: Version): Side => ({
    name: version.name,
    url:
      file.width > 0 && inBrowsers(formatOf(version))
        ? contentUrl(file.id, version.key, `${file.size_now}-${version.size}`)
        : previewUrl(file.id, 1600, `${file.size_now}-${version.size}`, version.key),
    facts: factsOf(file, version),
  });
  return (
    <>
      {drawn && (
        <p className="mb-2 text-sm text-quiet">
          Browsers do not show {label(file.format ?? "")} here; both sides are drawn for you
          {file.format === "pdf" && ", first page only"}.
        </p>
      )}
      <Compare
        key={file.id}
        left={side(one)}
        right={side(other)}
        width={drawn ? null : file.width}
        height={drawn ? null : file.height}
        worstPlace={other.worst_place ?? one.worst_place}
        atWorst={atWorst}
      />
      {recut(file) && (
        <p className="mt-2 text-sm text-quiet">
          It was cut or turned: both sides are drawn in one frame here, so one of them is stretched.
        </p>
      )}
      <div className="mt-3 grid grid-cols-[minmax(0,1fr)] items-start gap-x-6 gap-y-3 lg:grid-cols-[minmax(0,1fr)_18rem]">
        <div className="min-w-0 space-y-3">
          <VersionChoice label="On the left" versions={versions} chosen={one.key} onChoose={setLeft} />
          <VersionChoice label="On the right" versions={versions} chosen={other.key} onChoose={setRight} />
          {readable.length > 1 && <FileChoice files={readable} chosen={file.id} onChoose={setFileId} />}
        </div>
        {versions.length > 1 && <ScorePlot versions={versions} chosen={other.key} onChoose={setRight} />}
      </div>
    </>
  );
}

function factsOf(file: PictureFile, version: Version): string {
  return [
    bytes(version.size),
    version.key !== "before" && saved(file.size_before, version.size),
    version.score != null && `score ${points(version.score)}`,
    version.worst_place && `worst place ${version.worst_place.score.toFixed(0)}`,
  ]
    .filter(Boolean)
    .join(", ");
}

const CHIP =
  "rounded-[5px] border border-line bg-surface text-left text-sm hover:border-plum data-[state=on]:border-plum data-[state=on]:bg-plum-soft data-[state=on]:text-plum";

function VersionChoice({
  label,
  versions,
  chosen,
  onChoose,
}: {
  label: string;
  versions: Version[];
  chosen: string;
  onChoose: (key: string) => void;
}) {
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1.5">
      <span aria-hidden className="w-24 text-sm font-semibold">
        {label}
      </span>
      <ToggleGroup.Root
        type="single"
        aria-label={label}
        value={chosen}
        onValueChange={(key) => key && onChoose(key)}
        className="flex flex-wrap gap-1.5"
      >
        {versions.map(({ key, name, size }) => (
          <ToggleGroup.Item key={key} value={key} className={`${CHIP} px-2.5 py-1`}>
            {name} <span className="text-quiet">{bytes(size)}</span>
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
    </div>
  );
}

function FileChoice({
  files,
  chosen,
  onChoose,
}: {
  files: PictureFile[];
  chosen: number;
  onChoose: (id: number) => void;
}) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label="Which file"
      value={String(chosen)}
      onValueChange={(id) => id && onChoose(Number(id))}
      className="flex gap-2 overflow-x-auto pb-1"
    >
      {files.map((file) => (
        <ToggleGroup.Item
          key={file.id}
          value={String(file.id)}
          title={file.path}
          className={`${CHIP} w-28 shrink-0 overflow-hidden`}
        >
          <img
            src={previewUrl(file.id, 400, file.size_now)}
            alt=""
            loading="lazy"
            className="h-16 w-full bg-sunken object-cover"
          />
          <span className="block px-2 py-1 text-xs">
            {file.size_name ?? file.role}
            <span className="block text-quiet">
              {count(file.shown_width ?? file.width)} × {count(file.shown_height ?? file.height)}
            </span>
          </span>
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}
