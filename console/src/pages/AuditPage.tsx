/** Who did what, when and from where: looked through and taken along, never changed. */

import { useState } from "react";
import type { Library } from "../api/client";
import { useAudit, type AuditEntry, type AuditFilter, type Outcome } from "../api/people";
import { count } from "../look/words";
import { Button, Card, Empty, ErrorNote, INLINE_INPUT, Shape, Tag } from "../parts/ui";
import { Select } from "../parts/Select";

const OUTCOMES: [Outcome | "", string][] = [
  ["", "everything"],
  ["done", "what was done"],
  ["refused", "what was refused"],
  ["failed", "what failed"],
];

export function LibraryAuditPage({ library }: { library: Library }) {
  return <Audit slug={library.slug} />;
}

export function ServiceAuditPage() {
  return <Audit />;
}

function Audit({ slug }: { slug?: string }) {
  const [filter, setFilter] = useState<AuditFilter>({ search: "", outcome: "" });
  const list = useAudit(filter, slug);
  const rows = list.data?.pages.flatMap((page) => page.rows) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  return (
    <div className="space-y-5">
      <Card
        title="Who did what"
        aside={
          <a
            className="font-semibold text-plum underline"
            href={`/api/v1${slug === undefined ? "" : `/libraries/${slug}`}/audit/export`}
            download
          >
            Take it along as CSV
          </a>
        }
      >
        <div className="mb-4 flex flex-wrap gap-3">
          <input
            type="search"
            aria-label="Search"
            placeholder="A name, an address, an act"
            className={`${INLINE_INPUT} min-w-56 flex-1`}
            value={filter.search}
            onChange={(event) => setFilter({ ...filter, search: event.target.value })}
          />
          <Select
            label="Which"
            value={filter.outcome}
            options={OUTCOMES.map(([value, words]) => ({ value, name: words }))}
            onChange={(to) =>
              setFilter({
                ...filter,
                outcome: OUTCOMES.find(([one]) => one === to)?.[0] ?? "",
              })
            }
          />
        </div>
        {list.isPending && <Shape className="h-64" />}
        {list.isError && <ErrorNote error={list.error} again={() => void list.refetch()} />}
        {list.data && total === 0 && (
          <Empty title="Nothing of that kind">
            {filter.search || filter.outcome
              ? "No entry matches the search."
              : "Nobody has done anything here yet."}
          </Empty>
        )}
        <ol className="divide-y divide-line">
          {rows.map((entry) => (
            <Entry key={entry.id} entry={entry} here={slug !== undefined} />
          ))}
        </ol>
        {list.hasNextPage && (
          <div className="mt-4 flex items-center gap-3 text-sm text-quiet">
            <Button busy={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
              Show earlier ones
            </Button>
            <span>
              {count(rows.length)} of {count(total)}
            </span>
          </div>
        )}
      </Card>
    </div>
  );
}

function Entry({ entry, here }: { entry: AuditEntry; here: boolean }) {
  const who = entry.actor || entry.email || "a stranger";
  return (
    <li className="grid gap-x-4 gap-y-0.5 py-2.5 text-sm md:grid-cols-[11rem_12rem_1fr]">
      <time className="tabular-nums text-quiet" dateTime={entry.at}>
        {new Date(entry.at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "medium" })}
      </time>
      <span className="min-w-0">
        <span className="block truncate font-semibold" title={entry.email ?? who}>
          {who}
        </span>
        <span className="block text-xs text-quiet">
          {entry.kind === "key" ? "a key, " : ""}
          {entry.address}
        </span>
      </span>
      <span className="min-w-0">
        <span className="flex flex-wrap items-center gap-2">
          <span className="font-semibold">{entry.act}</span>
          {!here && entry.library && <span className="text-quiet">in {entry.library}</span>}
          {entry.outcome !== "done" && (
            <Tag state="failed">
              {entry.outcome}
              {entry.detail && `: ${entry.detail}`}
            </Tag>
          )}
        </span>
        <span className="block break-all font-mono text-xs text-quiet">
          {entry.outcome === "done" && entry.detail ? entry.detail : entry.target}
        </span>
      </span>
    </li>
  );
}
