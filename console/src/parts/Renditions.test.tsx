// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { takeJob } from "../api/queries";
import { LIBRARY, job, pageOf, serve, show } from "../testing";
import { Renditions } from "./Renditions";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const REPORT = { files: 9, looked_at: 4, found: 0, plain: 0, unreadable: 0 };
const FOLDER = {
  folder: "made",
  renditions: 2,
  others: 1,
  examples: [
    { path: "made/aa.webp", original: "up/0.jpg", file_id: 4, original_id: 1 },
    { path: "made/bb.webp", original: "up/1.jpg", file_id: null, original_id: 2 },
  ],
};
const ANSWERS = {
  "GET /libraries/ledge/proposals": [],
  "GET /libraries/ledge/jobs": pageOf([]),
};

test("pictures are compared on wish, and a comparison without a finding says so", async () => {
  serve({
    ...ANSWERS,
    "POST /libraries/ledge/resemblances": job("resemblance", { state: "running", resemblance: REPORT }),
  });
  const { cache } = show(<Renditions library={LIBRARY} />);
  fireEvent.click(await screen.findByRole("button", { name: "Compare the pictures" }));
  expect(await screen.findByRole("button", { name: "Comparing, 4 of 9 files" })).toBeTruthy();
  takeJob(cache, job("resemblance", { state: "finished", resemblance: { ...REPORT, looked_at: 9 } }));
  expect(await screen.findByText(/9 files compared .*No folder waits for an answer/)).toBeTruthy();
});

test("a folder is judged by its pictures and answered as a whole", async () => {
  const sent = serve({
    ...ANSWERS,
    "GET /libraries/ledge/proposals": [FOLDER],
    "POST /libraries/ledge/proposals": null,
  });
  const { container } = show(<Renditions library={LIBRARY} />);
  expect(
    await screen.findByText(/2 files show the same as a larger one, 1 file shows something else/),
  ).toBeTruthy();
  const shown = [...container.querySelectorAll("img")].map((one) => one.getAttribute("src"));
  expect(shown.map((src) => src!.match(/files\/(\d)\//)![1])).toEqual(["1", "4", "2"]);
  fireEvent.click(screen.getByRole("button", { name: "They are renditions" }));
  await waitFor(() =>
    expect(sent.find(({ method, path }) => method === "POST" && path.endsWith("/proposals"))?.body).toEqual({
      folder: "made",
      accept: true,
    }),
  );
});
