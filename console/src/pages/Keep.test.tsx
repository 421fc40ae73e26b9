// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { keys } from "../api/keys";
import { takeJob } from "../api/queries";
import { LIBRARY, job, pageOf, serve, show } from "../testing";
import { Keep } from "./Keep";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const BACKUPS = {
  backups: 9,
  bytes: 900,
  needed: 5,
  bytes_needed: 500,
  orphaned: 3,
  bytes_orphaned: 300,
  oldest_at: null,
  folder: "/var/b",
  bytes_free: 1000,
};
const NONE = { rows: [], total: 0, cursor: null };
const REPORT = {
  files: 3,
  copies: 2,
  backups: 3,
  differences: 2,
  mended: 0,
  findings: [{ what: "x", path: "a.jpg", detail: "it is gone", mended: false }],
};
const ANSWERS = {
  "GET /libraries/ledge/backups": BACKUPS,
  "GET /libraries/ledge/orphans": NONE,
  "GET /libraries/ledge/jobs": pageOf([]),
};

test("a check is started, followed by what is told of it, and its differences are listed", async () => {
  const waiting = job("check", {
    state: "waiting",
    check: { ...REPORT, files: 0, differences: 0, findings: [] },
  });
  const sent = serve({ ...ANSWERS, "POST /libraries/ledge/checks": waiting });
  const { cache } = show(<Keep library={LIBRARY} />);
  await waitFor(() => expect(cache.getQueryData(keys.jobs("ledge", "check"))).toEqual([]));
  fireEvent.click(screen.getByRole("button", { name: "Compare" }));
  await screen.findByRole("button", { name: "Stop" });
  expect(sent.find(({ path }) => path.endsWith("/checks"))!.body).toEqual({ mend: false });
  takeJob(cache, job("check", { state: "finished", check: REPORT }));
  expect(await screen.findByText("a.jpg")).toBeTruthy();
  expect(screen.getByText(/2 differences, 0 mended/)).toBeTruthy();
  expect(screen.getByRole("button", { name: "Mend what can be mended" })).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Stop" })).toBeNull();
});

test("deleting backups is a job that tells how far it is", async () => {
  const running = job("pruning", {
    state: "running",
    pruning: { backups: 0, bytes: 0, wanted: 1, needed: 0, left: 0 },
  });
  const sent = serve({ ...ANSWERS, "POST /libraries/ledge/prunings": running });
  const { cache } = show(<Keep library={LIBRARY} />);
  await waitFor(() => expect(cache.getQueryData(keys.jobs("ledge", "pruning"))).toEqual([]));
  fireEvent.click(await screen.findByRole("button", { name: /Delete backups/ }));
  fireEvent.change(screen.getByRole("textbox", { name: /ledge/ }), { target: { value: "ledge" } });
  fireEvent.click(screen.getByRole("button", { name: "Delete" }));
  expect(await screen.findByText(/Deleting: 0 of 1 backup so far/)).toBeTruthy();
  expect(sent.find(({ path }) => path.endsWith("/prunings"))!.body).toMatchObject({
    confirm: "ledge",
    needed_too: false,
    orphans_too: false,
  });
  takeJob(
    cache,
    job("pruning", {
      pruning: { backups: 1, bytes: 100, wanted: 1, needed: 0, left: 8 },
      finished_at: "2026-06-02T00:00:00Z",
    }),
  );
  expect(await screen.findByText(/1 backup were deleted, 100 B; 8 stayed/)).toBeTruthy();
});

test("what the store holds is told apart", async () => {
  serve(ANSWERS);
  show(<Keep library={LIBRARY} />);
  expect(await screen.findByText(/5 backups: the only original/)).toBeTruthy();
  expect(screen.getByText(/1 backup that nobody needs/)).toBeTruthy();
});
