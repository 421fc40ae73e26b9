/** The library as pictures: chosen by facets, seen as a grid or as rows, acted on one by one or all at once. */

import { LayoutGrid, Rows3, SlidersHorizontal, Upload, X } from "lucide-react";
import { ToggleGroup } from "radix-ui";
import { useCallback, useEffect, useMemo, useState } from "react";
import { useLocation, useSearchParams } from "react-router";
import type { Facets, Library, Picture } from "../api/client";
import { useMay } from "../api/people";
import { useFacets, useFormats, usePictures } from "../api/queries";
import { asked, choices, FACET_NAMES, FACETS, ORDERS, readFilter, wordOf, type Filter } from "../look/filter";
import { bytes, many, saved } from "../look/words";
import type { FromList } from "./PicturePage";
import { BulkBar, type Selection } from "../parts/BulkBar";
import { FacetPanel } from "../parts/FacetPanel";
import { PictureGrid, type View } from "../parts/PictureGrid";
import { Select } from "../parts/Select";
import { UploadSheet } from "../parts/UploadSheet";
import { Button, Empty, ErrorNote, INPUT, Shape, Sheet, Toolbar } from "../parts/ui";

type Chosen = ReadonlyMap<number, Picture> | "all";
const NONE: Chosen = new Map();

export function Review({ library }: { library: Library }) {
  const [params, setParams] = useSearchParams();
  const location = useLocation();
  const filter = useMemo(() => readFilter(params), [params]);
  const sort = params.get("sort") ?? "";
  const view: View = params.get("view") === "rows" ? "rows" : "grid";
  const [chosen, setChosen] = useState<Chosen>(NONE);
  const [panel, setPanel] = useState(false);
  const [uploading, setUploading] = useState(false);
  const may = useMay(library.slug);
  const question = useMemo(() => ({ ...asked(filter), ...(sort && { sort }) }), [filter, sort]);
  const found = usePictures(library.slug, question);
  const facets = useFacets(library.slug, asked(filter));

  /** The address holds the whole view; another filter means another choice. */
  const change = (to: (now: URLSearchParams) => void, same = false) => {
    setParams(
      (now) => {
        to(now);
        return now;
      },
      { replace: true },
    );
    if (!same) setChosen(NONE);
  };
  const put = (name: string, value: string, same = false) =>
    change((now) => (value ? now.set(name, value) : now.delete(name)), same);
  const onFacet = (name: string, value: string, on: boolean) =>
    change((now) => (on ? now.append(name, value) : now.delete(name, value)));

  const pictures = useMemo(() => found.data?.pages.flatMap((page) => page.rows) ?? [], [found.data]);
  const total = found.data?.pages[0]?.total ?? 0;
  const panelOf = (
    <FacetPanel
      facets={facets.data}
      filter={filter}
      onFacet={onFacet}
      onFolder={(folder) => put("folder", folder)}
    />
  );
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = found;
  const onMore = useCallback(() => {
    if (!isFetchingNextPage) void fetchNextPage();
  }, [isFetchingNextPage, fetchNextPage]);

  return (
    <>
      <Toolbar>
        <Search key={filter.search} value={filter.search} onChange={(text) => put("search", text)} />
        <Select
          label="Order"
          className="w-48"
          value={sort}
          options={ORDERS}
          onChange={(to) => put("sort", to)}
        />
        <ViewChoice view={view} onChange={(to) => put("view", to === "grid" ? "" : to, true)} />
        <Button className="lg:hidden" onClick={() => setPanel(true)}>
          <SlidersHorizontal size={16} aria-hidden /> Filter
        </Button>
        {may("upload") && (
          <Button onClick={() => setUploading(true)}>
            <Upload size={16} aria-hidden /> Upload
          </Button>
        )}
      </Toolbar>
      {uploading && (
        <UploadSheet library={library} folder={filter.folder} onClose={() => setUploading(false)} />
      )}
      <div data-wide className="gap-7 lg:grid lg:grid-cols-[13.5rem_minmax(0,1fr)]">
        <aside aria-label="Filter" className="hidden lg:block">
          <div className="sticky top-16 max-h-[calc(100vh-5rem)] overflow-y-auto pb-4 pr-3">{panelOf}</div>
        </aside>
        <div className="min-w-0">
          <Found
            filter={filter}
            facets={facets.data}
            onDrop={onFacet}
            onPut={put}
            onClear={() => change(clear)}
          />
          {chosen !== NONE && (
            <BulkBar
              library={library}
              filter={filter}
              selection={selectionOf(chosen, facets.data)}
              total={total}
              onAll={() => setChosen("all")}
              onNone={() => setChosen(NONE)}
            />
          )}
          {found.isPending && <Loading view={view} />}
          {found.isError && <ErrorNote error={found.error} again={() => void found.refetch()} />}
          {found.data && pictures.length === 0 && (
            <Empty
              title="No picture fits"
              action={choices(filter) > 0 && <Button onClick={() => change(clear)}>Show all pictures</Button>}
            >
              {choices(filter) > 0
                ? "Take one of the choices away, or search for something else."
                : "The library has no pictures yet: survey its folder on Look."}
            </Empty>
          )}
          {pictures.length > 0 && (
            <PictureGrid
              view={view}
              pictures={pictures}
              to={(one) => `/l/${library.slug}/review/${one.id}${sort === "worst" ? "?at=worst" : ""}`}
              from={(one): FromList => ({ numbers: around(pictures, one), search: location.search })}
              chosen={(one) => chosen === "all" || chosen.has(one.id)}
              onChoose={(one) => setChosen(toggled(chosen, one, pictures))}
              more={hasNextPage}
              onMore={onMore}
            />
          )}
        </div>
      </div>
      <Sheet open={panel} onClose={() => setPanel(false)} title="Filter">
        {panelOf}
        <Button look="main" className="mt-5 w-full" onClick={() => setPanel(false)}>
          Show {many(total, "picture")}
        </Button>
      </Sheet>
    </>
  );
}

/** The numbers of those near a picture, which its page can go on to. */
function around(pictures: Picture[], one: Picture): number[] {
  const at = pictures.indexOf(one);
  return pictures.slice(Math.max(0, at - AROUND), at + AROUND).map((picture) => picture.id);
}
const AROUND = 100;

function clear(now: URLSearchParams): void {
  for (const name of [...FACET_NAMES, "folder", "search"]) now.delete(name);
}

/** One more, or one less; of all, one less leaves those that were fetched so far. */
function toggled(chosen: Chosen, one: Picture, pictures: Picture[]): Chosen {
  const next = new Map(chosen === "all" ? pictures.map((picture) => [picture.id, picture]) : chosen);
  if (!next.delete(one.id)) next.set(one.id, one);
  return next.size ? next : NONE;
}

function selectionOf(chosen: Chosen, facets: Facets | undefined): Selection {
  if (chosen === "all")
    return { pictures: facets?.pictures ?? 0, files: facets?.files ?? 0, weight: facets?.bytes_now ?? 0 };
  const pictures = [...chosen.values()];
  return {
    pictures: pictures.length,
    files: pictures.reduce((sum, one) => sum + one.files, 0),
    weight: pictures.reduce((sum, one) => sum + one.bytes_now, 0),
    numbers: pictures.map((one) => one.id),
  };
}

function Search({ value, onChange }: { value: string; onChange: (text: string) => void }) {
  const [text, setText] = useState(value);
  useEffect(() => {
    if (text === value) return;
    const timer = setTimeout(() => onChange(text), 350);
    return () => clearTimeout(timer);
  });
  return (
    <form
      role="search"
      className="w-full sm:w-56"
      onSubmit={(event) => {
        event.preventDefault();
        onChange(text);
      }}
    >
      <input
        type="search"
        aria-label="Search in paths"
        placeholder="Search in paths"
        className={INPUT}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
    </form>
  );
}

function ViewChoice({ view, onChange }: { view: View; onChange: (view: View) => void }) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label="View"
      value={view}
      onValueChange={(to) => to && onChange(to as View)}
      className="flex overflow-hidden rounded-[5px] border border-line bg-surface"
    >
      {[["grid", "Grid", LayoutGrid] as const, ["rows", "Rows", Rows3] as const].map(
        ([name, label, Icon]) => (
          <ToggleGroup.Item
            key={name}
            value={name}
            aria-label={label}
            title={label}
            className="flex min-h-9 w-10 items-center justify-center text-quiet hover:text-plum data-[state=on]:bg-plum-soft data-[state=on]:text-plum"
          >
            <Icon size={17} />
          </ToggleGroup.Item>
        ),
      )}
    </ToggleGroup.Root>
  );
}

function found({ pictures, files, bytes_before, bytes_now }: Facets): string {
  if (pictures === 0) return "No pictures";
  return `${many(pictures, "picture")}, ${many(files, "file")}: ${bytes(bytes_before)} became ${bytes(bytes_now)}, ${saved(bytes_before, bytes_now)}`;
}

/** What the filter finds, in a sentence, and each choice, to be taken away. */
function Found({
  filter,
  facets,
  onDrop,
  onPut,
  onClear,
}: {
  filter: Filter;
  facets: Facets | undefined;
  onDrop: (name: string, value: string, on: boolean) => void;
  onPut: (name: string, value: string) => void;
  onClear: () => void;
}) {
  const { label } = useFormats();
  const chips = FACET_NAMES.flatMap((facet) =>
    filter[facet].map((value) => ({
      key: `${facet}=${value}`,
      name: `${FACETS[facet].title}: ${wordOf(facet, value, label)}`,
      drop: () => onDrop(facet, value, false),
    })),
  );
  if (filter.folder)
    chips.unshift({ key: "folder", name: `Folder: ${filter.folder}`, drop: () => onPut("folder", "") });
  if (filter.search)
    chips.unshift({ key: "search", name: `“${filter.search}”`, drop: () => onPut("search", "") });
  return (
    <div className="mb-3 flex min-h-7 flex-wrap items-center gap-2 text-sm">
      <span className="mr-1 text-quiet" aria-live="polite">
        {facets && found(facets)}
      </span>
      {chips.map(({ key, name, drop }) => (
        <button
          key={key}
          type="button"
          onClick={drop}
          aria-label={`Take away ${name}`}
          className="inline-flex max-w-full items-center gap-1 rounded-full border border-plum bg-plum-soft py-0.5 pl-2.5 pr-1.5 text-plum"
        >
          <span className="truncate">{name}</span>
          <X size={14} aria-hidden className="shrink-0" />
        </button>
      ))}
      {chips.length > 1 && (
        <button type="button" onClick={onClear} className="text-plum hover:underline">
          take all away
        </button>
      )}
    </div>
  );
}

function Loading({ view }: { view: View }) {
  return view === "rows" ? (
    <div className="space-y-2" role="status" aria-busy="true" aria-label="Loading">
      {Array.from({ length: 8 }, (_, index) => (
        <Shape key={index} className="h-[68px]" />
      ))}
    </div>
  ) : (
    <div
      className="grid grid-cols-2 gap-3 md:grid-cols-4"
      role="status"
      aria-busy="true"
      aria-label="Loading"
    >
      {Array.from({ length: 12 }, (_, index) => (
        <Shape key={index} className="h-56" />
      ))}
    </div>
  );
}
