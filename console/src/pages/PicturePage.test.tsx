// @vitest-environment jsdom
import { cleanup, screen } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import { FILE, LIBRARY, serve, show } from "../testing";
import { PicturePage, versionsOf, worstOf } from "./PicturePage";

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

test("from the list of worst places it opens at the worst", async () => {
  opened("/l/ledge/review/3?at=worst");
  const right = (await screen.findByLabelText("On the right")) as HTMLSelectElement;
  expect(right.value).toBe("avif");
  expect(screen.getByText("200 %")).toBeTruthy();
});

test("otherwise it opens with before and now", async () => {
  opened("/l/ledge/review/3");
  const right = (await screen.findByLabelText("On the right")) as HTMLSelectElement;
  expect(right.value).toBe("now");
  expect(screen.getByText(/score 80\.1, worst place 71/)).toBeTruthy();
  expect(await screen.findByText("AVIF copy")).toBeTruthy();
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
