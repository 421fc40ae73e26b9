/** The event stream: keeps runs, jobs and results in the cache as they change on the service. */

import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Item, Job, Run } from "./client";
import { lookAgain } from "./descriptions";
import { keys } from "./keys";
import { stale, takeJob } from "./queries";

const KEPT_ITEMS = 40;

/** Until a break counts as one, in milliseconds: a stream that is begun again at once is none. */
const BREAK = 4000;

/** Whether the stream has been away for a while. */
export function useLive(enabled: boolean): boolean {
  const cache = useQueryClient();
  const [away, setAway] = useState(false);
  useEffect(() => {
    if (!enabled) return;
    const source = new EventSource("/api/v1/events");
    const on = <T>(name: string, take: (data: T) => void) =>
      source.addEventListener(name, (event) => take(JSON.parse((event as MessageEvent<string>).data) as T));
    on<Run>("run", (run) => takeRun(cache, run));
    on<Job>("job", (job) => takeJob(cache, job));
    on<Item>("item", (item) => takeItem(cache, item));
    on<{ picture_id: number }>("description", ({ picture_id }) => void lookAgain(cache, picture_id));
    on("descriptions", () => stale(cache, ["descriptions", "describedSummary", "descriptionChanges"]));
    // After a break what was told meanwhile comes first, unless the service does not know it any more.
    on("missed", () => void cache.invalidateQueries());
    let broken: ReturnType<typeof setTimeout> | undefined;
    source.onerror = () => {
      broken ??= setTimeout(() => setAway(true), BREAK);
    };
    source.onopen = () => {
      clearTimeout(broken);
      broken = undefined;
      setAway(false);
    };
    return () => {
      clearTimeout(broken);
      source.close();
    };
  }, [cache, enabled]);
  return enabled && away;
}

function takeRun(cache: QueryClient, run: Run): void {
  const before = cache.getQueryData<Run>(keys.run(run.id));
  cache.setQueryData(keys.run(run.id), run);
  let known = false;
  cache.setQueryData<Run[]>(keys.runs(run.library), (all) =>
    all?.map((one) => {
      if (one.id !== run.id) return one;
      known = true;
      return run;
    }),
  );
  if (!known) void cache.invalidateQueries({ queryKey: keys.runs(run.library) });
  const ended = run.state === "finished" || run.state === "stopped";
  if (ended && before?.state !== run.state) {
    stale(cache, ["libraries", "savings", "pictures", "picture", "items"]);
  }
}

function takeItem(cache: QueryClient, item: Item): void {
  const add = (page: { rows: Item[]; total: number } | undefined) =>
    page && !page.rows.some((one) => one.id === item.id)
      ? { ...page, total: page.total + 1, rows: [item, ...page.rows].slice(0, KEPT_ITEMS) }
      : page;
  cache.setQueryData(keys.items(item.run_id, "landed"), add);
  if (item.state === "failed") void cache.invalidateQueries({ queryKey: keys.items(item.run_id, "failed") });
}
