// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import { FILE, LIBRARY, serve, show } from "../testing";
import { versionsOf, worstOf } from "../parts/Comparison";
import { stepsOf } from "../parts/PictureHistory";
import { alike, PicturePage } from "./PicturePage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const label = (format: string) => ({ avif: "AVIF", jpeg: "JPEG", webp: "WebP" })[format] ?? format;

test("every version is called what it is", () => {
  expect(versionsOf(FILE, label).map(({ key, name }) => [key, name])).toEqual([
    ["before", "Before"],
    ["now", "Now"],
    ["avif", "AVIF copy"],
  ]);
});

test("a picture that made way has its conversion and no file of its own now", () => {
  const removed = {
    ...FILE,
    state: "removed" as const,
    derived: [{ ...FILE.derived[0]!, purpose: "conversion" as const, format: "jpeg" }],
  };
  expect(versionsOf(removed, label).map(({ key, name }) => [key, name])).toEqual([
    ["before", "Before"],
    ["jpeg", "JPEG conversion"],
  ]);
});

test("the worst place of all files and of what stands beside them is found", () => {
  const better = { ...FILE, id: 10, worst_place: { ...FILE.worst_place!, score: 90 }, derived: [] };
  expect(worstOf([better, FILE])).toMatchObject({ file: { id: 9 }, key: "avif" });
  expect(worstOf([better])).toMatchObject({ file: { id: 10 }, key: "now" });
  expect(worstOf([{ ...FILE, worst_place: null, derived: [] }])).toBeUndefined();
});

const PICTURE = {
  id: 3,
  library: "ledge",
  path: "2025/kite.jpg",
  name: "kite.jpg",
  folder: "2025",
  format: "jpeg",
  width: 640,
  height: 480,
  state: "lighter",
  reason: null,
  files: 1,
  bytes_before: 1000,
  bytes_now: 500,
  bytes_lightest: 400,
  score: 80,
  worst: 60,
  original_id: 9,
  own: null,
  all_files: [FILE],
  history: [],
};

function opened(at: string) {
  serve({
    "GET /pictures/3": PICTURE,
    "GET /pictures/3/plan": [],
    "GET /pictures/3/cuts": { x: 0.5, y: 0.5, by_hand: false, cuts: [] },
  });
  show(
    <Routes>
      <Route path="/l/ledge/review/:picture" element={<PicturePage library={LIBRARY} />} />
    </Routes>,
    at,
  );
}

const onTheRight = () =>
  within(screen.getByRole("radiogroup", { name: "On the right" }))
    .getAllByRole("radio")
    .find((one) => one.getAttribute("aria-checked") === "true")?.textContent;

test("from the list of worst places it opens at the worst", async () => {
  opened("/l/ledge/review/3?at=worst");
  await screen.findByRole("radiogroup", { name: "On the right" });
  expect(onTheRight()).toMatch(/^AVIF copy/);
  expect(screen.getByText("200 %")).toBeTruthy();
});

test("otherwise it opens with before and now", async () => {
  opened("/l/ledge/review/3");
  await screen.findByRole("radiogroup", { name: "On the right" });
  expect(onTheRight()).toMatch(/^Now/);
  expect(screen.getByText(/score 80\.1, worst place 71/)).toBeTruthy();
  fireEvent.click(within(screen.getByRole("radiogroup", { name: "On the right" })).getByText("AVIF copy"));
  expect(onTheRight()).toMatch(/^AVIF copy/);
  expect(screen.getByText(/score 80\.4, worst place 60/)).toBeTruthy();
  const table = screen.getByRole("table", { name: "Score and weight of each version" });
  expect([...table.querySelectorAll("tr")].map((row) => row.textContent)).toEqual([
    "Before100.01.00 kB",
    "Now80.1500 B",
    "AVIF copy80.4400 B",
  ]);
});

test("from a list it goes on to the next picture by key, and back to the list as it was", async () => {
  serve({
    "GET /pictures/3": PICTURE,
    "GET /pictures/4": { ...PICTURE, id: 4, name: "lamp.png" },
    "GET /pictures/3/plan": [],
    "GET /pictures/4/plan": [],
  });
  const from = { numbers: [3, 4], search: "?format=png" };
  show(
    <Routes>
      <Route path="/l/ledge/review/:picture" element={<PicturePage library={LIBRARY} />} />
    </Routes>,
    { pathname: "/l/ledge/review/3", state: from },
  );
  await screen.findByRole("heading", { name: /kite.jpg/ });
  expect(document.title).toBe("kite.jpg – Gannet Ledge – Plum Crate");
  expect(screen.queryByRole("link", { name: "Previous picture" })).toBeNull();
  fireEvent.keyDown(document.body, { key: "p" });
  fireEvent.keyDown(document.body, { key: "n", ctrlKey: true });
  expect(screen.getByRole("heading", { name: /kite.jpg/ })).toBeTruthy();
  fireEvent.keyDown(document.body, { key: "n" });
  await screen.findByRole("heading", { name: /lamp.png/ });
  expect(screen.queryByRole("link", { name: "Next picture" })).toBeNull();
  expect(screen.getByRole("link", { name: "Review" }).getAttribute("href")).toBe(
    "/l/ledge/review?format=png",
  );
});

test("what is so of all files is said once", () => {
  const plan = (path: string, because: string, level: "lean" | null = null) =>
    ({ path, because, level, verdict: "treat" }) as const;
  expect(
    alike([plan("a/x.jpg", "as it is"), plan("a/y.jpg", "as it is"), plan("a/z.jpg", "as it is", "lean")]),
  ).toEqual([
    { because: "as it is", level: undefined, paths: ["x.jpg", "y.jpg"] },
    { because: "as it is", level: "lean", paths: ["z.jpg"] },
  ]);
});

test("the history has a step for each run, and for each moment outside of runs", () => {
  const entry = (id: number, run_id: number | null, at: string) =>
    ({
      id,
      run_id,
      at,
      action: "replace",
      path: "p",
      detail: {},
      score: null,
      bytes_before: 2,
      bytes_after: 1,
    }) as const;
  const steps = stepsOf([
    entry(5, null, "c"),
    entry(4, 2, "b"),
    entry(3, 2, "a"),
    entry(2, 1, "a"),
    entry(1, null, "a"),
  ]);
  expect(steps.map(({ run, entries }) => [run, entries.length])).toEqual([
    [null, 1],
    [2, 2],
    [1, 1],
    [null, 1],
  ]);
});

test("a picture that is not there is said", async () => {
  serve({});
  show(
    <Routes>
      <Route path="/l/ledge/review/:picture" element={<PicturePage library={LIBRARY} />} />
    </Routes>,
    "/l/ledge/review/9",
  );
  expect(await screen.findByText(/There is no such thing/)).toBeTruthy();
});
