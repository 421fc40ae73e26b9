/** The library as a list: filtered, sorted, long, with before and after; selections can be treated or restored. */

import { useInfiniteQuery } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { previewUrl, type Library, type Picture } from "../api/client";
import { fetchPictures, useFolders, useFormats, useStartRun, type PictureFilters } from "../api/queries";
import { keys } from "../api/keys";
import { bytes, count, many, points, saved, STATE_WORDS } from "../look/words";
import { Slat } from "../parts/Slat";
import { Button, Empty, ErrorNote, INPUT, PageTitle, Shape, Tag } from "../parts/ui";

const FILTERS = ["state", "folder", "search", "format", "sort"] as const;

export function Review({ library }: { library: Library }) {
  const [params, setParams] = useSearchParams();
  const filters = Object.fromEntries(
    FILTERS.map((name) => [name, params.get(name) ?? ""]),
  ) as Required<PictureFilters>;
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const change = (name: string, value: string) => {
    setParams(
      (now) => {
        if (value) now.set(name, value);
        else now.delete(name);
        return now;
      },
      { replace: true },
    );
    setChosen(new Set());
  };
  return (
    <>
      <PageTitle>Review</PageTitle>
      <Filters library={library} filters={filters} onChange={change} />
      {chosen.size > 0 && (
        <Selection library={library} chosen={chosen} onClear={() => setChosen(new Set())} />
      )}
      <Rows library={library} filters={filters} chosen={chosen} onChosen={setChosen} />
    </>
  );
}

function Filters({
  library,
  filters,
  onChange,
}: {
  library: Library;
  filters: Required<PictureFilters>;
  onChange: (name: string, value: string) => void;
}) {
  const folders = useFolders(library.slug);
  const { treated } = useFormats();
  const [search, setSearch] = useState(filters.search);
  useEffect(() => setSearch(filters.search), [filters.search]);
  return (
    <form
      role="search"
      className="mb-4 grid grid-cols-2 gap-2 md:grid-cols-[minmax(0,1fr)_11rem_10rem_9.5rem_12rem]"
      onSubmit={(event) => {
        event.preventDefault();
        onChange("search", search);
      }}
    >
      <input
        aria-label="Search in paths"
        placeholder="Search in paths"
        className={`${INPUT} col-span-2 md:col-span-1`}
        value={search}
        onChange={(event) => setSearch(event.target.value)}
        onBlur={() => search !== filters.search && onChange("search", search)}
      />
      <Choice
        label="State"
        value={filters.state}
        onChange={(value) => onChange("state", value)}
        options={Object.entries(STATE_WORDS).filter(([key]) => key !== "gone")}
        all="every state"
      />
      <Choice
        label="Folder"
        value={filters.folder}
        onChange={(value) => onChange("folder", value)}
        options={(folders.data ?? []).filter(Boolean).map((one) => [one, one])}
        all="every folder"
      />
      <Choice
        label="Format"
        value={filters.format}
        onChange={(value) => onChange("format", value)}
        options={treated.map(({ name, label }) => [name, label])}
        all="every format"
      />
      <Choice
        label="Order"
        value={filters.sort}
        onChange={(value) => onChange("sort", value)}
        options={[
          ["worst", "worst place first"],
          ["saved", "most saved first"],
          ["size", "heaviest first"],
        ]}
        all="by path"
      />
    </form>
  );
}

function Choice({
  label,
  value,
  onChange,
  options,
  all,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  options: string[][];
  all: string;
}) {
  return (
    <select
      aria-label={label}
      className={INPUT}
      value={value}
      onChange={(event) => onChange(event.target.value)}
    >
      <option value="">{all}</option>
      {options.map(([key, name]) => (
        <option key={key} value={key}>
          {name}
        </option>
      ))}
    </select>
  );
}

function Selection({
  library,
  chosen,
  onClear,
}: {
  library: Library;
  chosen: ReadonlySet<number>;
  onClear: () => void;
}) {
  const navigate = useNavigate();
  const start = useStartRun();
  const go = (kind: "treat" | "restore") =>
    start.mutate(
      { library: library.slug, kind, scope: { pictures: [...chosen] }, force: kind === "treat" },
      { onSuccess: (run) => void navigate(`/l/${library.slug}/treat/${run.id}`) },
    );
  return (
    <div className="crate sticky top-16 z-20 mb-3 flex flex-wrap items-center gap-3 px-4 py-2">
      <span className="font-semibold">{many(chosen.size, "picture")} chosen</span>
      <Button look="main" busy={start.isPending} onClick={() => go("treat")}>
        Treat again, {library.level}
      </Button>
      <Button busy={start.isPending} onClick={() => go("restore")}>
        Put originals back
      </Button>
      <Button look="quiet" onClick={onClear}>
        Choose none
      </Button>
      {start.isError && <ErrorNote error={start.error} />}
    </div>
  );
}

const ROW = 76;

function Rows({
  library,
  filters,
  chosen,
  onChosen,
}: {
  library: Library;
  filters: Required<PictureFilters>;
  chosen: ReadonlySet<number>;
  onChosen: (chosen: ReadonlySet<number>) => void;
}) {
  const pages = useInfiniteQuery({
    queryKey: keys.pictures(library.slug, filters),
    queryFn: ({ pageParam }) => fetchPictures(library.slug, filters, pageParam),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next ?? undefined,
  });
  const rows = useMemo(() => pages.data?.pages.flatMap((page) => page.rows) ?? [], [pages.data]);
  const [list, setList] = useState<HTMLDivElement | null>(null);
  const virtual = useWindowVirtualizer({
    count: rows.length + (pages.hasNextPage ? 1 : 0),
    estimateSize: () => ROW,
    overscan: 8,
    scrollMargin: list?.offsetTop ?? 0,
  });
  const shown = virtual.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  useEffect(() => {
    if (last >= rows.length - 1 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [last, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage]);

  if (pages.isPending) {
    return (
      <div className="space-y-2" aria-busy="true">
        {Array.from({ length: 8 }, (_, index) => (
          <Shape key={index} className="h-[68px]" />
        ))}
      </div>
    );
  }
  if (pages.isError) return <ErrorNote error={pages.error} again={() => void pages.refetch()} />;
  if (rows.length === 0)
    return <Empty title="No picture fits">Choose another state, folder or search.</Empty>;
  const total = pages.data.pages[0]?.total ?? 0;
  const choose = (id: number) => {
    const next = new Set(chosen);
    if (!next.delete(id)) next.add(id);
    onChosen(next);
  };
  return (
    <>
      <p className="mb-2 text-sm text-quiet">
        {many(total, "picture")}; sizes are the sums over each picture’s files.
      </p>
      <div ref={setList} role="list" className="crate relative" style={{ height: virtual.getTotalSize() }}>
        {shown.map(({ index, start, key }) => {
          const picture = rows[index];
          return (
            <div
              key={key}
              role="listitem"
              className="absolute inset-x-0 border-b border-line"
              style={{ height: ROW, transform: `translateY(${start - virtual.options.scrollMargin}px)` }}
            >
              {picture ? (
                <Row
                  library={library}
                  picture={picture}
                  query={filters.sort === "worst" ? "?at=worst" : ""}
                  chosen={chosen.has(picture.id)}
                  onChoose={() => choose(picture.id)}
                />
              ) : (
                <Shape className="m-2 h-14" />
              )}
            </div>
          );
        })}
      </div>
    </>
  );
}

function Row({
  library,
  picture,
  query,
  chosen,
  onChoose,
}: {
  library: Library;
  picture: Picture;
  query: string;
  chosen: boolean;
  onChoose: () => void;
}) {
  return (
    <div
      className={`grid h-full grid-cols-[auto_56px_minmax(0,1fr)_auto] items-center gap-3 px-3 md:grid-cols-[auto_72px_minmax(0,1fr)_14rem_7rem_4rem_4rem] ${chosen ? "bg-plum-soft" : ""}`}
    >
      <input
        type="checkbox"
        aria-label={`Choose ${picture.name}`}
        className="h-4 w-4 accent-plum"
        checked={chosen}
        onChange={onChoose}
      />
      <Thumb picture={picture} />
      <div className="min-w-0">
        <Link
          to={`/l/${library.slug}/review/${picture.id}${query}`}
          className="block truncate font-semibold hover:text-plum hover:underline"
          title={picture.path}
        >
          {picture.name}
        </Link>
        <div className="flex items-center gap-2 truncate text-xs text-quiet">
          <Tag state={picture.state}>{STATE_WORDS[picture.state]}</Tag>
          <span className="truncate">
            {picture.folder || "top folder"}, {many(picture.files, "file")}
            {picture.reason
              ? `: ${picture.reason}`
              : picture.width
                ? `, ${count(picture.width)} × ${count(picture.height)}`
                : ""}
          </span>
        </div>
      </div>
      <div className="hidden md:block">
        <Slat
          before={picture.bytes_before}
          now={picture.bytes_now}
          lightest={picture.bytes_lightest}
          format={picture.format ?? undefined}
        />
      </div>
      <span className="text-right text-sm">
        {bytes(picture.bytes_now)}
        <span className="block font-semibold text-leaf md:hidden">
          {saved(picture.bytes_before, picture.bytes_now)}
        </span>
      </span>
      <span className="hidden text-right text-sm font-semibold text-leaf md:block">
        {saved(picture.bytes_before, picture.bytes_now)}
      </span>
      <span
        className="hidden text-right text-sm text-quiet md:block"
        title="lowest SSIMULACRA2 score among its files; below it, what all would score were it like its worst place"
      >
        {points(picture.score)}
        <span className="block text-xs">
          {picture.worst == null ? "" : `worst ${picture.worst.toFixed(0)}`}
        </span>
      </span>
    </div>
  );
}

function Thumb({ picture }: { picture: Picture }) {
  const [broken, setBroken] = useState(false);
  if (broken || picture.state === "unreadable") {
    return (
      <div aria-hidden className="flex h-14 items-center justify-center rounded bg-sunken text-xs text-quiet">
        none
      </div>
    );
  }
  return (
    <img
      src={previewUrl(picture.original_id, 320, picture.bytes_now)}
      alt=""
      loading="lazy"
      onError={() => setBroken(true)}
      className="h-14 w-full rounded bg-sunken object-cover"
    />
  );
}
