// @vitest-environment jsdom
import { QueryClient } from "@tanstack/react-query";
import { act, cleanup, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { job, LIBRARY, serve, show } from "../testing";
import type { Job, Library } from "./client";
import { keys } from "./keys";
import { useLive } from "./live";
import { takeJob } from "./queries";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

class Source extends EventTarget {
  static latest: Source;
  closed = false;
  onerror: (() => void) | null = null;
  onopen: (() => void) | null = null;
  constructor(readonly url: string) {
    super();
    Source.latest = this;
  }
  tell(name: string, data: unknown) {
    this.dispatchEvent(new MessageEvent(name, { data: JSON.stringify(data) }));
  }
  close() {
    this.closed = true;
  }
}

function Live() {
  return <p>{useLive(true) ? "away" : "there"}</p>;
}

function listening() {
  vi.stubGlobal("EventSource", Source);
  serve({});
  return show(<Live />);
}

const CHECK = { files: 1, copies: 0, backups: 0, differences: 0, mended: 0, findings: [] };

test("what is told of jobs of every kind is used", () => {
  const { cache } = listening();
  cache.setQueryData(keys.jobs("ledge", "check"), [job("check", { id: 4 })]);
  Source.latest.tell("job", job("check", { id: 5, state: "running", check: CHECK }));
  expect(cache.getQueryData<Job[]>(keys.jobs("ledge", "check"))!.map((one) => one.id)).toEqual([5, 4]);
  Source.latest.tell("job", job("check", { id: 5, state: "finished", check: CHECK }));
  expect(cache.getQueryData<Job[]>(keys.jobs("ledge", "check"))![0]!.state).toBe("finished");
});

test("a survey is told to the library it is of", () => {
  const cache = new QueryClient();
  cache.setQueryData(keys.libraries, [LIBRARY, { ...LIBRARY, slug: "other" }]);
  takeJob(cache, job("survey", { state: "running", survey: { files_seen: 7 } as Job["survey"] }));
  const [ledge, other] = cache.getQueryData<Library[]>(keys.libraries)!;
  expect(ledge!.last_survey?.survey?.files_seen).toBe(7);
  expect(other!.last_survey).toBeNull();
});

test("a job makes stale what it changed, when it has ended and not before", () => {
  const cache = new QueryClient();
  cache.setQueryData(keys.backups("ledge"), {});
  const stale = () => cache.getQueryState(keys.backups("ledge"))!.isInvalidated;
  takeJob(cache, job("pruning", { state: "running" }));
  expect(stale()).toBe(false);
  takeJob(cache, job("pruning", { state: "finished" }));
  expect(stale()).toBe(true);
});

test("jobs of a kind that no page has asked for are not made up", () => {
  const cache = new QueryClient();
  takeJob(cache, job("forecast"));
  expect(cache.getQueryData(keys.jobs("ledge", "forecast"))).toBeUndefined();
});

test("a run is told to its page and its list, and its end makes the rest stale", () => {
  const { cache } = listening();
  const run = { id: 7, library: "ledge", state: "running", done: 1 };
  cache.setQueryData(keys.run(7), run);
  cache.setQueryData(keys.runs("ledge"), [run]);
  cache.setQueryData(keys.savings("ledge"), {});
  Source.latest.tell("run", { ...run, done: 2 });
  expect(cache.getQueryData(keys.run(7))).toMatchObject({ done: 2 });
  expect(cache.getQueryState(keys.savings("ledge"))!.isInvalidated).toBe(false);
  Source.latest.tell("run", { ...run, state: "finished" });
  expect(cache.getQueryData<{ state: string }[]>(keys.runs("ledge"))![0]!.state).toBe("finished");
  expect(cache.getQueryState(keys.savings("ledge"))!.isInvalidated).toBe(true);
});

test("an item is put on top of those that landed, once", () => {
  const { cache } = listening();
  cache.setQueryData(keys.items(7, "landed"), { rows: [{ id: 1 }], total: 1 });
  for (let turn = 0; turn < 2; turn++) Source.latest.tell("item", { id: 2, run_id: 7, state: "done" });
  expect(cache.getQueryData(keys.items(7, "landed"))).toEqual({
    rows: [{ id: 2, run_id: 7, state: "done" }, { id: 1 }],
    total: 2,
  });
});

test("what was missed is asked for again; the stream ends with the page", () => {
  const { cache, unmount } = listening();
  cache.setQueryData(keys.machine, {});
  Source.latest.onopen!();
  expect(cache.getQueryState(keys.machine)!.isInvalidated).toBe(false);
  Source.latest.onerror!();
  Source.latest.onopen!();
  expect(cache.getQueryState(keys.machine)!.isInvalidated).toBe(false);
  Source.latest.tell("missed", {});
  expect(cache.getQueryState(keys.machine)!.isInvalidated).toBe(true);
  unmount();
  expect(Source.latest.closed).toBe(true);
});

test("a stream that stays away is told, one that comes back at once is not", () => {
  vi.useFakeTimers();
  try {
    listening();
    const said = () => screen.getByText(/away|there/).textContent;
    act(() => Source.latest.onerror!());
    act(() => void vi.advanceTimersByTime(2000));
    act(() => Source.latest.onopen!());
    act(() => void vi.advanceTimersByTime(9000));
    expect(said()).toBe("there");
    act(() => Source.latest.onerror!());
    act(() => void vi.advanceTimersByTime(3000));
    act(() => Source.latest.onerror!());
    act(() => void vi.advanceTimersByTime(1500));
    expect(said()).toBe("away");
    act(() => Source.latest.onopen!());
    expect(said()).toBe("there");
  } finally {
    vi.useRealTimers();
  }
});
