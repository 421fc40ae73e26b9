// @vitest-environment jsdom
/** Descriptions are written by keyboard, saved while somebody types, and never over another's words. */

import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Description } from "../api/descriptions";
import { lookAgain } from "../api/descriptions";
import { LIBRARY, serve, show } from "../testing";
import { DescriptionsPage } from "./DescriptionsPage";

const row = (number: number, part: Partial<Description> = {}): Description => ({
  picture_id: number,
  library: "ledge",
  path: `2026/p${number}.jpg`,
  original_id: number,
  bytes_now: 900,
  width: 300,
  height: 200,
  language: "en",
  alternative: "",
  title: "",
  caption: "",
  credit: "",
  decorative: false,
  version: 0,
  by: "",
  at: null,
  faults: [{ rule: "missing", text: "It says nothing." }],
  suggestions: [],
  uses: [],
  terms: [],
  ...part,
});
const LENS = { field: "alternative", text: "The lens", source: "xmp-caption", where: "" } as const;
const SUMMARY = {
  language: "en",
  pictures: 4,
  described: 1,
  decorative: 1,
  wanting: { missing: 2, "file-name": 1 },
  pages: [
    { page_id: 3, address: "https://ledge.example/visit", pictures: 4, without: 2, known: 1, alike: 0 },
  ],
  read: 0,
};
const SETTINGS = { languages: ["en", "de"], rules: ["missing", "file-name"], longest: 125 };

const ANSWERS = {
  "GET /libraries/ledge/description-settings": SETTINGS,
  "GET /libraries/ledge/descriptions/summary": SUMMARY,
  "GET /libraries/ledge/descriptions": {
    rows: [row(1, { suggestions: [LENS] }), row(2), row(3)],
    total: 3,

    cursor: null,
  },
  "PUT /pictures/1/descriptions/en": row(1, { alternative: "The lens", version: 1, by: "Ada", faults: [] }),
  "PUT /pictures/2/descriptions/en": row(2, { decorative: true, version: 1, by: "Ada", faults: [] }),
};

beforeEach(() => {
  vi.stubGlobal(
    "IntersectionObserver",
    class {
      observe() {}
      disconnect() {}
    },
  );
});

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const page = () => show(<DescriptionsPage library={LIBRARY} />);
const field = (number: number) => screen.findByLabelText(`Alternative text of 2026/p${number}.jpg`);
const value = async (number: number) => ((await field(number)) as HTMLTextAreaElement).value;
const saves = (sent: ReturnType<typeof serve>) => sent.filter((one) => one.method === "PUT");

test("what is typed is saved by Enter, which goes to the next picture", async () => {
  const sent = serve(ANSWERS);
  page();
  const first = await field(1);
  first.focus();
  fireEvent.change(first, { target: { value: "The lens" } });
  fireEvent.keyDown(first, { key: "Enter" });
  expect(document.activeElement).toBe(await field(2));
  await screen.findByText("saved by Ada");
  expect(saves(sent)).toHaveLength(1);
  expect(saves(sent)[0]).toMatchObject({
    path: "/pictures/1/descriptions/en",
    basis: '"0"',
    body: { alternative: "The lens", decorative: false },
  });
  fireEvent.keyDown(await field(2), { key: "Enter", shiftKey: true });
  expect(document.activeElement).toBe(first);
});

test("a pause saves by itself, and only what changed", async () => {
  const sent = serve(ANSWERS);
  page();
  fireEvent.change(await field(1), { target: { value: "The le" } });
  fireEvent.change(await field(1), { target: { value: "The lens" } });
  fireEvent.blur(await field(3));
  await waitFor(() => expect(saves(sent)).toHaveLength(1), { timeout: 3000 });
  expect(saves(sent)[0]?.body).toMatchObject({ alternative: "The lens" });
});

test("suggestions and decorative have keys of their own", async () => {
  const sent = serve(ANSWERS);
  page();
  fireEvent.keyDown(await field(1), { code: "Digit1", key: "1", altKey: true });
  expect(await value(1)).toBe("The lens");
  fireEvent.keyDown(await field(2), { code: "KeyD", key: "d", altKey: true });
  await waitFor(() => expect(saves(sent)).toHaveLength(2));
  expect(saves(sent)[1]?.body).toMatchObject({ alternative: "", decorative: true });
  fireEvent.keyDown(await field(3), { code: "KeyM", key: "m", altKey: true });
  await screen.findByLabelText("Caption");
});

test("another's words are shown and never written over unseen", async () => {
  const refused = {
    type: "urn:plumcrate:problem:changed-meanwhile",
    title: "Somebody else changed it meanwhile",
    status: 412,
    detail: "Ben changed it",
  };
  const theirs = row(1, { alternative: "A lamp", version: 4, by: "Ben", faults: [] });
  const sent = serve({
    ...ANSWERS,
    "PUT /pictures/1/descriptions/en": refused,
    "GET /pictures/1/descriptions": [theirs],
  });
  const { cache } = page();
  fireEvent.change(await field(1), { target: { value: "Mine" } });
  fireEvent.blur(await field(1));
  await screen.findByRole("alert");
  await lookAgain(cache, 1);
  await screen.findByText("Ben wrote meanwhile: “A lamp”");
  expect(await value(1)).toBe("Mine");
  fireEvent.click(screen.getByRole("button", { name: "Keep mine" }));
  await waitFor(() => expect(saves(sent)).toHaveLength(2));
  expect(saves(sent)[1]).toMatchObject({ basis: '"4"', body: { alternative: "Mine" } });
  fireEvent.click(await screen.findByRole("button", { name: "Take theirs" }));
  expect(await value(1)).toBe("A lamp");
});

test("what somebody else writes appears where nobody is typing", async () => {
  const theirs = row(2, { alternative: "A lamp", version: 1, by: "Ben", faults: [] });
  serve({ ...ANSWERS, "GET /pictures/2/descriptions": [theirs] });
  const { cache } = page();
  await field(2);
  await lookAgain(cache, 2);
  await waitFor(async () => expect(await value(2)).toBe("A lamp"));
});

test("the list is narrowed by what is wanting, by page and by language", async () => {
  const sent = serve(ANSWERS);
  page();
  fireEvent.click(await screen.findByLabelText(/says nothing/));
  fireEvent.click(await screen.findByRole("button", { name: /visit/ }));
  await waitFor(() =>
    expect(sent.at(-1)?.query).toMatchObject({ wanting: "missing", page_id: "3", language: "en" }),
  );
  screen.getByText(/1 described, 1 decorative of 4 pictures/);
});

test("a change of many is seen before it is done, and undone after", async () => {
  const example = { picture_id: 1, path: "2026/p1.jpg", field: "alternative", before: "", after: "The lens" };
  const change = {
    id: 8,
    language: "en",
    what: "took suggestions",
    pictures: 1,
    by: "Ada",
    at: "2026-11-30T10:00:00Z",
    undone_at: null,
  };
  const sent = serve({
    ...ANSWERS,
    "POST /libraries/ledge/descriptions/change": { changed: 1, unchanged: 2, examples: [example], change: 8 },
    "GET /libraries/ledge/description-changes": [change],
    "POST /libraries/ledge/description-changes/8/undo": { undone: 1, kept: 0 },
  });
  page();
  fireEvent.click(await screen.findByRole("button", { name: "Many at once …" }));
  const sheet = within(await screen.findByRole("dialog"));
  const doing = sheet.getByRole("button", { name: /^Change/ });
  expect(doing).toHaveProperty("disabled", true);
  fireEvent.click(sheet.getByRole("button", { name: "Show what would change" }));
  await sheet.findByText("The lens");
  fireEvent.click(sheet.getByRole("button", { name: "Change 1 description" }));
  await sheet.findByText("1 description changed.");
  const asked = sent.filter((one) => one.method === "POST").map((one) => one.body);
  expect(asked).toMatchObject([
    { preview: true },
    { preview: false, deed: { do: "accept", only_empty: true } },
  ]);
  fireEvent.click(await sheet.findByRole("button", { name: "Undo" }));
  await waitFor(() => expect(sent.some((one) => one.path.endsWith("/8/undo"))).toBe(true));
});

test("without pictures, and without an answer, the page says what to do", async () => {
  serve({
    ...ANSWERS,
    "GET /libraries/ledge/descriptions": { rows: [], total: 0, cursor: null },
  });
  page();
  await screen.findByText("Nothing to describe");
  serve({});
  page();
  expect((await screen.findAllByRole("alert")).length).toBeGreaterThan(0);
});
