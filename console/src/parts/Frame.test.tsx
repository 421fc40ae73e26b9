// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { addressOf, PAGES, under, WORK } from "../pages";
import { LIBRARY, PERSON, pageOf, serve, show } from "../testing";
import { Frame } from "./Frame";
import { Tabs } from "./Tabs";

const RUN = { id: 7, library: "ledge", state: "running", files: 10, left: 4 };

beforeEach(() => localStorage.clear());
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

test("routes, tabs and headings come from one table", () => {
  expect(WORK.map((page) => page.name)).toEqual(["Look", "Treat", "Review", "Serve", "Keep"]);
  expect(under("Treat").map((page) => page.path)).toEqual([
    "treat",
    "treat/recipe",
    "treat/sizes",
    "treat/watermarks",
    "treat/automation",
    "treat/allowance",
  ]);
  expect(new Set(PAGES.map((page) => page.path)).size).toBe(PAGES.length);
  expect(addressOf("ledge", "")).toBe("/l/ledge");
  expect(addressOf("ledge", "keep")).toBe("/l/ledge/keep");
});

test("a page without a library shows the way back into the one that was looked at last", async () => {
  localStorage.setItem("plumcrate-library", "other");
  serve({
    "GET /libraries": [LIBRARY, { ...LIBRARY, slug: "other", name: "Other" }],
    "GET /runs": pageOf([]),
  });
  show(
    <Frame person={PERSON}>
      <p>The machine</p>
    </Frame>,
    "/machine",
  );
  const way = await screen.findByRole("navigation", { name: "The work" });
  expect(within(way).getByText("Keep").getAttribute("href")).toBe("/l/other/keep");
});

test("where no library is connected yet there is no way into one", async () => {
  serve({ "GET /libraries": [] });
  show(
    <Frame person={PERSON}>
      <p>Connect</p>
    </Frame>,
    "/connect",
  );
  expect(await screen.findByText("Choose a library")).toBeTruthy();
  expect(screen.queryByRole("navigation", { name: "The work" })).toBeNull();
});

test("the run under way is shown on every page", async () => {
  serve({ "GET /libraries": [LIBRARY], "GET /runs": pageOf([RUN]) });
  show(
    <Frame person={PERSON} library={LIBRARY}>
      <p>page</p>
    </Frame>,
  );
  expect(await screen.findByLabelText("Run 7, running: 6 of 10 files")).toBeTruthy();
  expect(localStorage.getItem("plumcrate-library")).toBe("ledge");
});

test("everything is found by its name with the keyboard", async () => {
  serve({ "GET /libraries": [LIBRARY], "GET /runs": pageOf([]) });
  show(
    <Frame person={PERSON} library={LIBRARY}>
      <p>page</p>
    </Frame>,
  );
  fireEvent.keyDown(window, { key: "k", ctrlKey: true });
  const box = await screen.findByRole("combobox");
  for (const page of PAGES) {
    if (page.name) expect(screen.getByText(`${page.name}: ${page.hint}`)).toBeTruthy();
  }
  fireEvent.change(box, { target: { value: "worst" } });
  expect(screen.getAllByRole("option").map((option) => option.textContent)).toEqual([
    "Review: worst place first",
    "Find pictures called “worst”",
  ]);
});

test("pictures are found by their names, once somebody has stopped typing", async () => {
  const picture = { id: 12, path: "2025/worst-gale.jpg" };
  const sent = serve({
    "GET /libraries": [LIBRARY],
    "GET /runs": pageOf([]),
    "GET /libraries/ledge/pictures": { rows: [picture], total: 1, cursor: null },
  });
  show(
    <Frame person={PERSON} library={LIBRARY}>
      <p>page</p>
    </Frame>,
  );
  fireEvent.keyDown(window, { key: "k", ctrlKey: true });
  const box = await screen.findByRole("combobox");
  for (const value of ["w", "wo", "worst-"]) fireEvent.change(box, { target: { value } });
  expect(await screen.findByRole("option", { name: "Picture: 2025/worst-gale.jpg" })).toBeTruthy();
  const asked = sent.filter(({ path }) => path.endsWith("/pictures"));
  expect(asked.map(({ query }) => query)).toEqual([{ search: "worst-", limit: "6" }]);
});

test("tabs name the pages under a heading", () => {
  show(<Tabs library={LIBRARY} under="Treat" />, "/l/ledge/treat/recipe");
  const tabs = within(screen.getByRole("navigation", { name: "Treat" })).getAllByRole("link");
  expect(tabs.map((tab) => [tab.textContent, tab.getAttribute("href")])).toEqual([
    ["Runs", "/l/ledge/treat"],
    ["Recipe", "/l/ledge/treat/recipe"],
    ["Sizes", "/l/ledge/treat/sizes"],
    ["Watermarks", "/l/ledge/treat/watermarks"],
    ["Automation", "/l/ledge/treat/automation"],
    ["Allowance", "/l/ledge/treat/allowance"],
  ]);
  expect(tabs[1]!.getAttribute("aria-current")).toBe("page");
});
