/** Near duplicates: pictures that show the same, a group at a time, and what to do about each by hand. */

import { useState } from "react";
import { Link } from "react-router";
import { previewUrl, type Library } from "../api/client";
import {
  useKeepApart,
  useNearDuplicates,
  useRedirect,
  type NearDuplicate,
  type NearDuplicateGroup,
} from "../api/nearDuplicates";
import { useMay } from "../api/people";
import { underWay, useJobs, useStartJob } from "../api/queries";
import { bytes, count, many, when } from "../look/words";
import { Button, Card, Empty, ErrorNote, PageTitle, Shape, Tag } from "../parts/ui";

export function NearDuplicatesPage({ library }: { library: Library }) {
  const may = useMay(library.slug);
  const groups = useNearDuplicates(library.slug);
  const [apart, setApart] = useState<NearDuplicate | null>(null);
  const keepApart = useKeepApart();
  const first = groups.data?.pages[0];
  const rows = groups.data?.pages.flatMap((page) => page.rows) ?? [];
  return (
    <>
      <PageTitle aside={may("treat") && <Search library={library} />}>Near duplicates</PageTitle>
      <Latest library={library} />
      {groups.isPending && <Shape className="h-64" />}
      {groups.isError && <ErrorNote error={groups.error} again={() => void groups.refetch()} />}
      {keepApart.isError && <ErrorNote error={keepApart.error} />}
      {apart && (
        <p role="status" className="mb-4 flex flex-wrap items-center gap-3">
          <span>
            <code className="font-mono text-sm break-all">{apart.path}</code> is kept out of all groups.
          </span>
          <Button
            busy={keepApart.isPending}
            onClick={() =>
              keepApart.mutate(
                { picture: apart.picture_id, apart: false },
                { onSuccess: () => setApart(null) },
              )
            }
          >
            Undo
          </Button>
        </p>
      )}
      {first && first.total === 0 && (
        <Empty title="No near duplicates are known">
          A search looks at every picture once and finds those that show the same, also when they were scaled,
          cropped to as little as 60 % of the area, turned, tinted or compressed again. No file is touched.
        </Empty>
      )}
      {first && first.total > 0 && (
        <p className="mb-4 max-w-prose">
          {many(first.total, "group")} of {many(first.pictures, "picture")}. All but the largest of each weigh{" "}
          {bytes(first.spare)}. Nothing is deleted: visitors of one can be sent to another, so that pages
          which show both load one.
        </p>
      )}
      <ul className="grid items-start gap-4 lg:grid-cols-2">
        {rows.map((group) => (
          <li key={group.id} className={group.pictures.length > 3 ? "min-w-0 lg:col-span-2" : "min-w-0"}>
            <Group
              library={library}
              group={group}
              acts={may("treat")}
              onApart={(one) =>
                keepApart.mutate({ picture: one.picture_id, apart: true }, { onSuccess: () => setApart(one) })
              }
            />
          </li>
        ))}
      </ul>
      {groups.hasNextPage && (
        <div className="mt-4">
          <Button busy={groups.isFetchingNextPage} onClick={() => void groups.fetchNextPage()}>
            More groups
          </Button>
        </div>
      )}
    </>
  );
}

function Search({ library }: { library: Library }) {
  const latest = useJobs(library.slug, "near-duplicates").data?.[0];
  const start = useStartJob(library.slug, "near-duplicates");
  const busy = start.isPending || underWay(latest);
  const report = latest?.near_duplicates;
  return (
    <>
      <Button look="main" busy={busy} onClick={() => start.mutate(undefined)}>
        {busy && report
          ? `Looking, ${count(report.looked_at)} of ${many(report.pictures, "picture")}`
          : "Look for near duplicates"}
      </Button>
      {start.isError && <ErrorNote error={start.error} />}
    </>
  );
}

function Latest({ library }: { library: Library }) {
  const latest = useJobs(library.slug, "near-duplicates").data?.[0];
  if (latest?.state === "failed")
    return <ErrorNote error={new Error(`The last search failed: ${latest.reason}`)} />;
  const report = latest?.near_duplicates;
  if (latest?.state !== "finished" || !report) return null;
  return (
    <p className="mb-2 text-sm text-quiet">
      Last search {when(latest.finished_at)}: {many(report.looked_at, "picture")} new or changed of{" "}
      {count(report.pictures)}
      {report.unreadable > 0 && `, ${count(report.unreadable)} of them could not be looked at`}.
    </p>
  );
}

interface Acts {
  library: Library;
  acts: boolean;
  onApart: (one: NearDuplicate) => void;
}

function Group({ group, ...rest }: Acts & { group: NearDuplicateGroup }) {
  const redirect = useRedirect();
  const largest = group.pictures[0];
  return (
    <Card
      title={`${many(group.pictures.length, "picture")}, ${bytes(group.bytes)}`}
      aside={<span className="text-sm text-quiet tabular-nums">{bytes(group.spare)} beyond the largest</span>}
    >
      {group.pages.length > 0 && (
        <p className="mb-3 max-w-prose text-sm">
          {group.pages.length === 1 ? "One weighed page shows" : "Weighed pages show"} several of them and
          would load one: {group.pages.join(", ")}
        </p>
      )}
      {redirect.isError && <ErrorNote error={redirect.error} />}
      <ul
        className={`grid grid-cols-2 gap-5 sm:grid-cols-3 ${group.pictures.length > 3 ? "lg:grid-cols-6" : ""}`}
      >
        {group.pictures.map((one) => (
          <li key={one.picture_id} className="flex min-w-0 flex-col text-sm">
            <Shown library={rest.library} one={one} />
            {rest.acts && largest && !one.largest && (
              <Hand
                one={one}
                busy={redirect.isPending}
                onRedirect={(to) => redirect.mutate({ picture: one.picture_id, to })}
                onApart={() => rest.onApart(one)}
                largest={largest}
              />
            )}
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Shown({ library, one }: { library: Library; one: NearDuplicate }) {
  const name = one.path.slice(one.path.lastIndexOf("/") + 1);
  return (
    <Link to={`/l/${library.slug}/review/${one.picture_id}`} className="block min-w-0">
      <span className="block aspect-[4/3] overflow-hidden rounded-[3px] bg-sunken">
        {one.file_id !== null && (
          <img
            alt=""
            loading="lazy"
            className="h-full w-full object-contain"
            src={previewUrl(one.file_id, 400, "near")}
          />
        )}
      </span>
      <span className="mt-1 block truncate font-mono text-xs underline" title={one.path}>
        {name}
      </span>
      <span className="block text-quiet tabular-nums">
        {count(one.width)} × {count(one.height)}, {bytes(one.bytes)}
        {one.files > 1 && ` in ${many(one.files, "file")}`}
      </span>
      <span className="block">{one.largest ? <Tag state="lighter">Largest</Tag> : inWords(one)}</span>
      {one.pages.length > 0 && (
        <span className="block truncate text-quiet" title={one.pages.join("\n")}>
          on {many(one.pages.length, "weighed page")}
        </span>
      )}
    </Link>
  );
}

function Hand({
  one,
  largest,
  busy,
  onRedirect,
  onApart,
}: {
  one: NearDuplicate;
  largest: NearDuplicate;
  busy: boolean;
  onRedirect: (to: number | null) => void;
  onApart: () => void;
}) {
  return (
    <div className="mt-auto flex flex-col items-start gap-2 pt-2">
      {one.redirect === null ? (
        <>
          <Button disabled={busy} onClick={() => onRedirect(largest.picture_id)}>
            Send visitors to the largest
          </Button>
          <Button disabled={busy} onClick={onApart}>
            Not the same
          </Button>
        </>
      ) : (
        <>
          <span>Visitors get {one.redirect === largest.picture_id ? "the largest" : "another"}.</span>
          <Button disabled={busy} onClick={() => onRedirect(null)}>
            Send visitors here again
          </Button>
        </>
      )}
    </div>
  );
}

/** How a picture shows what the largest does. */
function inWords({ shows }: NearDuplicate): string {
  if (!shows) return "resembles others of the group";
  if (shows.identical) return "the same bytes";
  const part = Math.round(shows.part * 100);
  const turn = Math.round(shows.turn);
  const said = [
    part < 96 && `${part} % of it`,
    Math.abs(turn) > 1 && `turned by ${Math.abs(turn)}°`,
    Math.abs(shows.scale - 1) > 0.02 && `at ${count(Math.round(shows.scale * 100))} %`,
  ].filter(Boolean);
  return said.length ? said.join(", ") : "the same, saved anew";
}
