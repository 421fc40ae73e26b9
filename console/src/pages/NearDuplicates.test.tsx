// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { LIBRARY, job, pageOf, serve, show } from "../testing";
import { NearDuplicatesPage } from "./NearDuplicatesPage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const picture = (picture_id: number, more: object = {}) => ({
  picture_id,
  file_id: picture_id,
  path: `2026/${picture_id}.jpg`,
  format: "jpeg",
  width: 800,
  height: 600,
  files: 1,
  bytes: 90_000,
  largest: false,
  shows: null,
  pages: [],
  redirect: null,
  ...more,
});
const AS_IT_IS = { identical: false, scale: 1, turn: 0, part: 1, alike: 0.99 };
const GROUP = {
  id: 1,
  pictures: [
    picture(1, { largest: true, width: 1600, height: 1200 }),
    picture(2, { shows: { ...AS_IT_IS, scale: 0.5, part: 0.6 } }),
    picture(3, { shows: { ...AS_IT_IS, identical: true }, redirect: 1 }),
    picture(4),
  ],
  bytes: 400_000,
  spare: 270_000,
  pages: ["https://ledge.example/"],
};
const NONE = { rows: [], total: 0, pictures: 0, spare: 0, cursor: null };
const ANSWERS = {
  "GET /libraries/ledge/jobs": pageOf([]),
  "GET /libraries/ledge/near-duplicates": {
    rows: [GROUP],
    total: 1,
    pictures: 4,
    spare: 270_000,
    cursor: null,
  },
};

test("a group says how each picture shows what the largest does, and which pages would gain", async () => {
  serve(ANSWERS);
  show(<NearDuplicatesPage library={LIBRARY} />);
  expect(await screen.findByText("60 % of it, at 50 %")).toBeTruthy();
  expect(screen.getByText("the same bytes")).toBeTruthy();
  expect(screen.getByText("resembles others of the group")).toBeTruthy();
  expect(screen.getByText(/One weighed page shows several of them/).textContent).toContain("ledge.example");
});

test("visitors are sent to the largest, and back", async () => {
  const sent = serve({
    ...ANSWERS,
    "PUT /pictures/2/redirect": { picture_id: 2, to: 1, to_path: "2026/1.jpg", by: "Ada" },
    "DELETE /pictures/3/redirect": null,
  });
  show(<NearDuplicatesPage library={LIBRARY} />);
  fireEvent.click((await screen.findAllByRole("button", { name: "Send visitors to the largest" }))[0]!);
  await waitFor(() => expect(sent.find((one) => one.method === "PUT")?.body).toEqual({ picture_id: 1 }));
  fireEvent.click(screen.getByRole("button", { name: "Send visitors here again" }));
  await waitFor(() => expect(sent.some((one) => one.method === "DELETE")).toBe(true));
});

test("one that is not the same is kept apart, and that is undone", async () => {
  const sent = serve({ ...ANSWERS, "PUT /pictures/2/kept-apart": null });
  show(<NearDuplicatesPage library={LIBRARY} />);
  fireEvent.click((await screen.findAllByRole("button", { name: "Not the same" }))[0]!);
  fireEvent.click(await screen.findByRole("button", { name: "Undo" }));
  await waitFor(() =>
    expect(sent.filter((one) => one.method === "PUT").map((one) => one.body)).toEqual([
      { apart: true },
      { apart: false },
    ]),
  );
});

test("a library without groups says what a search does, and a search tells how far it is", async () => {
  const report = { pictures: 9, looked_at: 4, unreadable: 0, compared: 0, groups: 0, in_groups: 0 };
  serve({
    ...ANSWERS,
    "GET /libraries/ledge/near-duplicates": NONE,
    "POST /libraries/ledge/near-duplicate-searches": job("near-duplicates", {
      state: "running",
      near_duplicates: report,
    }),
  });
  show(<NearDuplicatesPage library={LIBRARY} />);
  expect(await screen.findByText("No near duplicates are known")).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Look for near duplicates" }));
  expect(await screen.findByRole("button", { name: "Looking, 4 of 9 pictures" })).toBeTruthy();
});
