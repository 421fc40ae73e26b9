// @vitest-environment jsdom
import { cleanup, screen, within } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { Treat } from "../pages/Treat";
import { LIBRARY, job, pageOf, serve, show } from "../testing";
import { ForecastCard } from "./ForecastCard";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const range = (expected: number) => ({ low: expected - 5, expected, high: expected + 5 });
const OUTLOOK = {
  files: 12,
  bytes_before: 1000,
  sampled_files: 4,
  sampled_bytes: 300,
  bytes_after: range(600),
  bytes_lightest: range(400),
  seconds: 31.4,
  run_seconds: 754,
  wanted_seconds: null as number | null,
  actual_files: 0,
  actual_before: 0,
  actual_after: 0,
  actual_lightest: 0,
  efforts: [
    { effort: "quick" as const, run_seconds: 500, bytes_after: 620, bytes_lightest: 430 },
    { effort: "normal" as const, run_seconds: 754, bytes_after: 600, bytes_lightest: 400 },
    { effort: "thorough" as const, run_seconds: 4000, bytes_after: 590, bytes_lightest: 380 },
  ],
};
const said = (outlook: object) => ({
  "GET /libraries/ledge/jobs": pageOf([
    job("forecast", { forecast: { recipe_version: 2, outlook: outlook as typeof OUTLOOK } }),
  ]),
});

test("a forecast says how long a run takes, and sets the efforts side by side", async () => {
  serve(said(OUTLOOK));
  show(<ForecastCard library={LIBRARY} />);
  expect(await screen.findByText("12 min 34 s", { selector: "strong" })).toBeTruthy();
  const rows = within(screen.getByRole("table"))
    .getAllByRole("row")
    .map((row) => row.textContent);
  expect(rows).toHaveLength(4);
  expect(rows[1]).toBe("quick8 min 20 s620 B430 B −57 %");
  expect(rows[3]).toContain("1 h 6 min");
});

test("a forecast from before, or too short to compare, is shown without", async () => {
  serve(said({ ...OUTLOOK, run_seconds: null, efforts: [] }));
  show(<ForecastCard library={LIBRARY} />);
  expect(await screen.findByText(/An estimate for 12 files/)).toBeTruthy();
  expect(screen.queryByRole("table")).toBeNull();
  expect(screen.queryByText(/would take about/)).toBeNull();
});

test("before a run is started its length is told, or where to have it told", async () => {
  const others = {
    "GET /libraries/ledge/runs": pageOf([]),
    "GET /runs": pageOf([]),
    "GET /libraries/ledge/folders": [],
  };
  serve({ ...said(OUTLOOK), ...others });
  show(<Treat library={LIBRARY} />);
  expect(await screen.findByText("12 min 34 s")).toBeTruthy();
  cleanup();
  serve({ "GET /libraries/ledge/jobs": pageOf([job("forecast", { state: "failed" })]), ...others });
  show(<Treat library={LIBRARY} />);
  expect((await screen.findByRole("link", { name: "Forecast it first" })).getAttribute("href")).toBe(
    "/l/ledge",
  );
});

test("a forecast that looked at too little says so instead", async () => {
  serve(said({ ...OUTLOOK, wanted_seconds: 120 }));
  show(<ForecastCard library={LIBRARY} />);
  expect(await screen.findByText(/Too little was looked at .* sample for 2 min/)).toBeTruthy();
  expect(screen.queryByText(/A run over all of them/)).toBeNull();
});
