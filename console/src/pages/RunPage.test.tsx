// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import type { Item } from "../api/client";
import { LIBRARY, serve, show } from "../testing";
import { byKind, RunPage } from "./RunPage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const item = (id: number, code: string | null, reason: string) =>
  ({ id, run_id: 7, picture_id: id, file_id: id, path: `p${id}.jpg`, state: "failed", code, reason }) as Item;
const FAILED = [
  item(1, "damaged", "the JPEG ends early"),
  item(2, "disk-full", "the disk is full"),
  item(3, "damaged", "the PNG has no end"),
  item(4, "of-tomorrow", "what nobody knows yet"),
  item(5, null, "what nobody knows yet"),
];
const RUN = {
  id: 7,
  library: "ledge",
  kind: "treat",
  state: "finished",
  level: "everyday",
  files: 6,
  done: 1,
  passed: 0,
  failed: 5,
  left: 0,
  already: 0,
  left_out: 0,
  elsewhere: 0,
  bytes_before: 100,
  bytes_after: 40,
  bytes_lightest: 30,
  in_hand: [],
  proof: null,
  created_at: "2026-06-01T00:00:00Z",
  finished_at: "2026-06-01T00:01:00Z",
};

test("failures of a kind belong together, and those of no known kind by their words", () => {
  expect(byKind(FAILED).map(({ what, items }) => [what, items.map(({ id }) => id)])).toEqual([
    ["damaged or cut off", [1, 3]],
    ["what nobody knows yet", [4, 5]],
    ["no room on the disk", [2]],
  ]);
});

function opened(state = "finished") {
  const sent = serve({
    "GET /runs/7": { ...RUN, state },
    "GET /runs/7/items": { rows: FAILED, total: 5 },
    "POST /runs/7/retry": { ...RUN, failed: 3 },
  });
  show(
    <Routes>
      <Route path="/l/ledge/treat/:run" element={<RunPage library={LIBRARY} />} />
    </Routes>,
    "/l/ledge/treat/7",
  );
  return sent;
}

test("each kind says what can be done, and is tried again by itself", async () => {
  const sent = opened();
  expect(await screen.findByText("Upload it again from where it came.")).toBeTruthy();
  expect(screen.getAllByText("the JPEG ends early").length, "each file its own reason").toBeGreaterThan(0);
  expect(document.title).toBe("Run 7 – Gannet Ledge – Plum Crate");
  fireEvent.click(screen.getAllByRole("button", { name: "Try these again" })[0]!);
  await waitFor(() => expect(sent.some(({ path }) => path.endsWith("/retry"))).toBe(true));
  expect(sent.find(({ path }) => path.endsWith("/retry"))!.query["item"]).toBe("3");
});

test("what was stopped for good is not offered to be tried again", async () => {
  opened("stopped");
  await screen.findByText("Upload it again from where it came.");
  expect(screen.queryByRole("button", { name: /again/ })).toBeNull();
});
