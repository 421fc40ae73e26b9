// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { PictureDetail, Trial } from "../api/client";
import { FILE, LIBRARY, RECIPE, serve, show } from "../testing";
import { LevelsCard } from "./LevelsCard";
import { chosen, TrayCard } from "./TrayCard";
import { TrialView } from "./TrialView";

beforeEach(() => vi.stubGlobal("URL", URL));
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const TRIAL: Trial = {
  level: "everyday",
  because: "the recipe decides",
  format: "jpeg",
  width: 480,
  height: 320,
  size: 40_000,
  data: "QkVGT1JF",
  outputs: [
    {
      role: "file",
      format: "jpeg",
      verdict: "chosen",
      reason: "",
      size: 16_000,
      score: 80.4,
      worst: 74,
      how: "",
      data: "Tk9X",
    },
    {
      role: "copy",
      format: "webp",
      verdict: "not-smaller",
      reason: "no smaller",
      size: 21_000,
      score: 80,
      worst: 70,
      how: "",
      data: null,
    },
    {
      role: "copy",
      format: "avif",
      verdict: "chosen",
      reason: "",
      size: 12_000,
      score: 80,
      worst: 70,
      how: "",
      data: "QVZJRg==",
    },
  ],
};

test("a trial shows what would be, its weight and score, and the original while it is held", () => {
  show(<TrialView trial={TRIAL} busy={false} />);
  const image = () => screen.getByRole("img").getAttribute("src");
  expect(image()).toBe("data:image/jpeg;base64,Tk9X");
  const hold = screen.getByRole("button");
  fireEvent.pointerDown(hold);
  expect(image()).toBe("data:image/jpeg;base64,QkVGT1JF");
  fireEvent.pointerUp(hold);
  fireEvent.keyDown(hold, { key: " " });
  expect(screen.getByText("original")).toBeTruthy();
  fireEvent.keyUp(hold, { key: " " });
  expect(image()).toBe("data:image/jpeg;base64,Tk9X");
  const figure = screen.getByRole("figure").textContent;
  expect(figure).toContain("−60 % 40.0 kB to 16.0 kB");
  expect(figure).toContain("score 80.4");
  expect(figure).toContain("WEBP copy none");
  expect(figure).toContain("AVIF copy −70 %");
});

test("where nothing smaller keeps the promise, the part as it was is shown and said to stay", () => {
  const outputs = TRIAL.outputs.map((one) => ({ ...one, data: null }));
  show(<TrialView trial={{ ...TRIAL, outputs }} busy={false} />);
  expect(screen.getByRole("img").getAttribute("src")).toBe("data:image/jpeg;base64,QkVGT1JF");
  expect(screen.getByText(/stays as it is/)).toBeTruthy();
});

const PICTURE = {
  id: 3,
  original_id: 9,
  name: "kite.jpg",
  width: 640,
  height: 480,
  all_files: [FILE],
} as unknown as PictureDetail;

test("the four levels are tried where the picture changed most, only when asked for, and one is applied", async () => {
  const sent = serve({ "POST /pictures/3/trial": TRIAL });
  const onApply = vi.fn();
  show(<LevelsCard picture={PICTURE} busy={false} onApply={onApply} />);
  expect(sent.filter(({ method }) => method === "POST")).toEqual([]);
  fireEvent.click(screen.getByRole("button", { name: "Try all four" }));
  await waitFor(() => expect(screen.getAllByRole("img")).toHaveLength(4));
  const asked = sent.filter(({ method }) => method === "POST").map(({ body }) => body);
  expect(asked).toEqual(
    ["exact", "gallery", "everyday", "lean"].map((level) => ({ level, x: 0.9, y: 0.1, pixels: 120_000 })),
  );
  const lean = screen.getByRole("region", { name: "Lean" });
  fireEvent.click(within(lean).getByRole("button", { name: "Treat so" }));
  expect(onApply).toHaveBeenCalledWith("lean");
});

test("who may not treat looks, and cannot apply", async () => {
  serve({ "POST /pictures/3/trial": TRIAL });
  show(<LevelsCard picture={PICTURE} busy={false} onApply={undefined} />);
  fireEvent.click(screen.getByRole("button", { name: "Try all four" }));
  await waitFor(() => expect(screen.getAllByRole("img")).toHaveLength(4));
  expect(screen.queryByRole("button", { name: "Treat so" })).toBeNull();
});

const listed = (id: number, state = "lighter", width = 9) =>
  ({ id, state, width, name: `p${id}.jpg` }) as never;

test("the tray holds each picture once, and none that cannot be shown", () => {
  const lists = [
    { what: "a", pictures: [listed(1, "unreadable"), listed(2, "new", 0), listed(3)] },
    { what: "b", pictures: [listed(3), listed(4)] },
    { what: "c", pictures: [listed(3)] },
  ];
  expect(chosen(lists).map(({ what, picture }) => [what, picture.id])).toEqual([
    ["a", 3],
    ["b", 4],
  ]);
});

test("the tray is made anew as settings change, once they are at rest", async () => {
  const rows = [1, 2, 3, 4].map((id) => listed(id));
  const sent = serve({
    "GET /libraries/ledge/pictures": { rows, total: 4, cursor: null },
    ...Object.fromEntries([1, 2, 3, 4].map((id) => [`POST /pictures/${id}/trial`, TRIAL])),
  });
  const levels = () =>
    sent
      .filter(({ path }) => path.endsWith("/trial"))
      .map(({ body }) => (body as { settings: { level: string } }).settings.level);
  const { rerender, again } = tray("everyday");
  await waitFor(() => expect(levels()).toEqual(Array(4).fill("everyday")));
  for (const level of ["gallery", "exact", "lean"]) rerender(again(level));
  await waitFor(() => expect(levels().filter((level) => level === "lean")).toHaveLength(4));
  expect(levels()).not.toContain("gallery");
});

function tray(level: string) {
  const of = (now: string) => (
    <TrayCard
      library={LIBRARY}
      settings={{ ...RECIPE.settings, level: now as typeof RECIPE.settings.level }}
    />
  );
  const { rerender, wrap } = show(of(level));
  return { rerender, again: (now: string) => wrap(of(now)) };
}
