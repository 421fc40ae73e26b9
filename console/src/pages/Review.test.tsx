// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { Route, Routes, useLocation } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { LIBRARY, serve, show } from "../testing";
import { Review } from "./Review";

beforeEach(() => {
  vi.spyOn(HTMLElement.prototype, "offsetHeight", "get").mockReturnValue(76);
  vi.stubGlobal("innerHeight", 800);
});
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
});

function picture(id: number, name: string) {
  return {
    id,
    path: `2025/${name}`,
    folder: "2025",
    name,
    state: "lighter",
    reason: null,
    format: "jpeg",
    width: 640,
    height: 480,
    files: 3,
    bytes_before: 1000,
    bytes_now: 500,
    bytes_lightest: 400,
    score: 80.2,
    worst: 71 + id,
    preview: null,
  };
}

const PAGE = { rows: [picture(1, "kite.jpg"), picture(2, "lamp.png")], total: 2, next: null };

function Where() {
  const place = useLocation();
  return <output>{place.pathname + place.search}</output>;
}

function review(answers: Record<string, unknown>, at = "/l/ledge/review") {
  const sent = serve({
    "GET /libraries/ledge/pictures": PAGE,
    "GET /libraries/ledge/folders": ["2025"],
    ...answers,
  });
  show(
    <Routes>
      <Route
        path="*"
        element={
          <>
            <Where />
            <Review library={LIBRARY} />
          </>
        }
      />
    </Routes>,
    at,
  );
  return sent;
}

test("the worst places first lead into the comparison where they are", async () => {
  review({}, "/l/ledge/review?sort=worst");
  const link = await screen.findByRole("link", { name: "kite.jpg" });
  expect(link.getAttribute("href")).toBe("/l/ledge/review/1?at=worst");
  expect((screen.getByRole("combobox", { name: "Order" }) as HTMLSelectElement).value).toBe("worst");
  expect(screen.getByText("worst 72")).toBeTruthy();
});

test("a filter goes into the address, and out of it", async () => {
  review({});
  await screen.findByRole("link", { name: "kite.jpg" });
  const state = screen.getByRole("combobox", { name: "State" });
  fireEvent.change(state, { target: { value: "failed" } });
  await waitFor(() =>
    expect(document.querySelector("output")!.textContent).toBe("/l/ledge/review?state=failed"),
  );
  fireEvent.change(state, { target: { value: "" } });
  await waitFor(() => expect(document.querySelector("output")!.textContent).toBe("/l/ledge/review"));
});

test("formats in the filter are those that the service treats", async () => {
  review({});
  await screen.findByRole("link", { name: "kite.jpg" });
  const format = screen.getByRole("combobox", { name: "Format" });
  await within(format).findByRole("option", { name: "AVIF" });
  expect(
    within(format)
      .getAllByRole("option")
      .map((option) => option.textContent),
  ).toEqual(["every format", "JPEG", "PNG", "GIF", "WebP", "AVIF"]);
});

test("chosen pictures are put back in one run, which is then shown", async () => {
  const sent = review({ "POST /runs": { id: 42, library: "ledge", kind: "restore", state: "running" } });
  fireEvent.click(await screen.findByRole("checkbox", { name: "Choose kite.jpg" }));
  fireEvent.click(screen.getByRole("checkbox", { name: "Choose lamp.png" }));
  expect(screen.getByText("2 pictures chosen")).toBeTruthy();
  fireEvent.click(screen.getByRole("checkbox", { name: "Choose lamp.png" }));
  fireEvent.click(screen.getByRole("button", { name: "Put originals back" }));
  await waitFor(() => expect(document.querySelector("output")!.textContent).toBe("/l/ledge/treat/42"));
  expect(sent.find(({ method, path }) => method === "POST" && path === "/runs")!.body).toEqual({
    library: "ledge",
    kind: "restore",
    scope: { pictures: [1] },
    force: false,
  });
});

test("where nothing fits, and where nothing comes, is said", async () => {
  review({ "GET /libraries/ledge/pictures": { rows: [], total: 0, next: null } });
  expect(await screen.findByRole("heading", { name: "No picture fits" })).toBeTruthy();
  cleanup();
  review({ "GET /libraries/ledge/pictures": undefined });
  expect(await screen.findByRole("alert")).toBeTruthy();
});
