// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Run, Savings } from "../api/client";
import { LIBRARY, pageOf, serve, show } from "../testing";
import { Boundary } from "./Boundary";
import { LatelyCard } from "./LatelyCard";
import { MosaicCard } from "./Mosaic";
import { ScoresCard } from "./ScoresCard";

beforeEach(() => {
  localStorage.clear();
  vi.useFakeTimers({ toFake: ["Date"], now: Date.parse("2026-06-10T12:00:00Z") });
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const picture = (id: number, before: number, now: number) => ({
  id,
  original_id: id,
  name: `p${id}.jpg`,
  bytes_before: before,
  bytes_now: now,
});

test("the heaviest pictures are as large as they weighed, and covered as far as they became lighter", async () => {
  const rows = [picture(1, 3000, 1500), picture(2, 6000, 6000), picture(3, 1000, 100)];
  serve({ "GET /libraries/ledge/pictures": { rows, total: 3, cursor: null } });
  show(<MosaicCard library={{ ...LIBRARY, pictures: 8, bytes_before: 10_500 }} />);
  const links = await screen.findAllByRole("link");
  expect(links.map((link) => link.getAttribute("aria-label") ?? link.textContent)).toEqual([
    "p2.jpg: 6.00 kB, not made lighter",
    "p1.jpg: 3.00 kB became 1.50 kB, −50 %",
    "p3.jpg: 1.00 kB became 100 B, −90 %",
    "5 lighter pictures500 B before",
  ]);
  const area = (link: HTMLElement) => {
    const { width, height } = link.parentElement!.style;
    return parseFloat(width) * parseFloat(height);
  };
  expect(area(links[0]!) / area(links[1]!)).toBeCloseTo(2, 2);
  expect(area(links[1]!) / area(links[2]!)).toBeCloseTo(3, 2);
  expect((links[1]!.lastElementChild!.previousElementSibling as HTMLElement).style.width).toBe("50%");
});

const SCORES: Savings["scores"] = [
  {
    level: "everyday",
    aim: 80,
    bins: [
      { score: 79, files: 1200 },
      { score: 92, files: 3 },
    ],
  },
];

test("scores are told with what was promised, also to those who do not see the plot", () => {
  show(<ScoresCard scores={SCORES} slug="ledge" />);
  expect(screen.getByText("aim 80")).toBeTruthy();
  const table = screen.getByRole("table", { name: "Files by score at the level Everyday, which aims at 80" });
  expect(
    within(table)
      .getAllByRole("row")
      .map((row) => row.textContent),
  ).toEqual(["79 to 801,200", "92 to 933"]);
  cleanup();
  show(<ScoresCard scores={[]} slug="ledge" />);
  expect(screen.queryByRole("heading")).toBeNull();
});

const run = (id: number, finished_at: string | null): Partial<Run> => ({
  id,
  kind: "treat",
  files: 5,
  done: 5,
  failed: 0,
  bytes_before: 100,
  bytes_after: 40,
  bytes_lightest: 30,
  finished_at,
});

async function lately() {
  serve({
    "GET /runs": pageOf([run(3, null), run(2, "2026-06-10T11:00:00Z"), run(1, "2026-06-09T11:00:00Z")]),
  });
  show(<LatelyCard library={LIBRARY} />);
  await screen.findAllByRole("link");
  const said = screen.getByRole("heading", { name: "Lately" }).parentElement!.textContent;
  cleanup();
  return said;
}

test("what came since the visit before is told, and a look back within it changes nothing", async () => {
  expect(await lately(), "the first visit").toBe("Lately");
  vi.setSystemTime(Date.parse("2026-06-10T12:10:00Z"));
  expect(await lately(), "still the first").toBe("Lately");
  vi.setSystemTime(Date.parse("2026-06-11T09:00:00Z"));
  expect(await lately()).toBe("Latelynothing new");
  localStorage.setItem(
    "plumcrate-visit-ledge",
    JSON.stringify({ before: null, now: Date.parse("2026-06-10T10:00:00Z") }),
  );
  expect(await lately()).toBe("Lately1 run since you were here");
  vi.setSystemTime(Date.parse("2026-06-11T09:20:00Z"));
  expect(await lately(), "the same visit").toBe("Lately1 run since you were here");
});

test("a browser that keeps nothing is borne, and so is what somebody else kept there", async () => {
  localStorage.setItem("plumcrate-visit-ledge", "{not ours");
  expect(await lately()).toBe("Lately");
  vi.spyOn(Storage.prototype, "getItem").mockImplementation(() => {
    throw new Error("refused");
  });
  vi.spyOn(Storage.prototype, "setItem").mockImplementation(() => {
    throw new Error("refused");
  });
  expect(await lately()).toBe("Lately");
  vi.restoreAllMocks();
});

test("a page that fails says so, and can be tried again", () => {
  vi.spyOn(console, "error").mockImplementation(() => {});
  let broken = true;
  function Page() {
    if (broken) throw new Error("a figure without its unit");
    return <p>well again</p>;
  }
  show(
    <Boundary>
      <Page />
    </Boundary>,
  );
  expect(screen.getByRole("alert").textContent).toContain("a figure without its unit");
  broken = false;
  fireEvent.click(screen.getByRole("button", { name: "Try again" }));
  expect(screen.getByText("well again")).toBeTruthy();
  vi.restoreAllMocks();
});
