// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { Route, Routes, useLocation } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { LIBRARY, PERSON, serve, show } from "../testing";
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
    original_id: id,
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
  };
}

const PAGE = { rows: [picture(1, "kite.jpg"), picture(2, "lamp.png")], total: 5, cursor: null };
const value = (name: string, pictures: number) => ({ name, pictures, bytes_now: 100 * pictures });
const FACETS = {
  pictures: 5,
  files: 15,
  bytes_before: 5000,
  bytes_now: 2500,
  bytes_lightest: 2000,
  facets: {
    state: [value("lighter", 4), value("failed", 1)],
    format: [value("jpeg", 3), value("avif", 1), value("", 1)],
    weight: [value("under-100kb", 5)],
    saving: [value("over-50", 1), value("none", 4)],
    score: [],
    copied: [],
    rule: [value("none", 4), value("exact", 1)],
    folder: [value("2024", 2), value("2025", 3)],
  },
};

function Where() {
  const place = useLocation();
  return <output>{place.pathname + place.search}</output>;
}
const where = () => document.querySelector("output")!.textContent;

function review(answers: Record<string, unknown> = {}, at = "/l/ledge/review") {
  const sent = serve({
    "GET /libraries/ledge/pictures": PAGE,
    "GET /libraries/ledge/facets": FACETS,
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
  const sent = review({}, "/l/ledge/review?sort=worst");
  const link = await screen.findByRole("link", { name: "kite.jpg" });
  expect(link.getAttribute("href")).toBe("/l/ledge/review/1?at=worst");
  expect(screen.getByRole("combobox", { name: "Order" }).textContent).toBe("worst place first");
  expect(screen.getByText("worst 72")).toBeTruthy();
  expect(sent.find(({ path }) => path.endsWith("/pictures"))!.query["sort"]).toBe("worst");
});

test("each choice says what it would find, in the words of the trade", async () => {
  review();
  const formats = await screen.findByRole("group", { name: "Format" });
  await within(formats).findByText("AVIF");
  expect(formats.textContent).toBe("FormatJPEG3AVIF1not a picture1");
  expect(screen.getByRole("group", { name: "Saving" }).textContent).toBe("Savingnone4over 50 %1");
  expect(screen.queryByRole("group", { name: /Weight/ }), "one value is no choice").toBeNull();
  expect(screen.getByText(/5 pictures, 15 files: 5.00 kB became 2.50 kB, −50 %/)).toBeTruthy();
});

test("choices go into the address and the question, and out of both", async () => {
  const sent = review();
  fireEvent.click(await screen.findByRole("checkbox", { name: /failed/ }));
  fireEvent.click(screen.getByRole("button", { name: /2025/ }));
  await waitFor(() => expect(where()).toBe("/l/ledge/review?state=failed&folder=2025"));
  await waitFor(() => expect(sent.at(-1)!.query).toMatchObject({ state: "failed", folder: "2025" }));
  fireEvent.click(screen.getByRole("button", { name: "Take away State: failed" }));
  await waitFor(() => expect(where()).toBe("/l/ledge/review?folder=2025"));
  fireEvent.click(screen.getByRole("button", { name: "all" }));
  await waitFor(() => expect(where()).toBe("/l/ledge/review"));
});

test("an address is a view: what it holds is chosen, and a choice that finds nothing stays in sight", async () => {
  review({}, "/l/ledge/review?state=kept&state=failed&view=rows");
  const kept = await screen.findByRole("checkbox", { name: /as small as it gets/ });
  expect(
    [kept, screen.getByRole("checkbox", { name: /failed/ })].map((box) => (box as HTMLInputElement).checked),
  ).toEqual([true, true]);
  expect(screen.getByRole("radio", { name: "Rows" }).getAttribute("aria-checked")).toBe("true");
});

test("chosen pictures are put back in one run, which is then shown", async () => {
  const sent = review({ "POST /runs": { id: 42, library: "ledge", kind: "restore", state: "running" } });
  fireEvent.click(await screen.findByRole("checkbox", { name: "Choose kite.jpg" }));
  fireEvent.click(screen.getByRole("checkbox", { name: "Choose lamp.png" }));
  expect(screen.getByText("2 pictures chosen")).toBeTruthy();
  fireEvent.click(screen.getByRole("checkbox", { name: "Choose lamp.png" }));
  fireEvent.click(screen.getByRole("button", { name: "Put originals back …" }));
  const sure = await screen.findByRole("dialog");
  expect(sure.textContent).toContain("1 picture, 3 files, 500 B.");
  fireEvent.click(within(sure).getByRole("button", { name: "Put them back" }));
  await waitFor(() => expect(where()).toBe("/l/ledge/treat/42"));
  expect(sent.find(({ method, path }) => method === "POST" && path === "/runs")!.body).toEqual({
    library: "ledge",
    kind: "restore",
    scope: { pictures: [1] },
    force: false,
  });
});

test("all that the filter finds is acted on by the filter, and says how much that is", async () => {
  const sent = review(
    { "PUT /libraries/ledge/overrides": { pictures: 5 } },
    "/l/ledge/review?format=jpeg&folder=2025",
  );
  fireEvent.click(await screen.findByRole("checkbox", { name: "Choose kite.jpg" }));
  fireEvent.click(screen.getByRole("button", { name: "Choose all 5 pictures" }));
  expect(screen.getByText("5 pictures chosen").parentElement!.textContent).toContain("15 files, 2.50 kB");
  fireEvent.keyDown(screen.getByRole("button", { name: "Own rule" }), { key: "Enter" });
  fireEvent.click(await screen.findByRole("menuitem", { name: /Leave alone/ }));
  const sure = await screen.findByRole("dialog");
  expect(sure.textContent).toContain("5 pictures, 15 files, 2.50 kB: all that the filter finds");
  fireEvent.click(within(sure).getByRole("button", { name: "Leave alone" }));
  await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  expect(sent.find(({ method }) => method === "PUT")!.body).toEqual({
    which: { format: ["jpeg"], folder: "2025" },
    override: "leave",
  });
});

test("who may only mend leaves alone, and puts one back", async () => {
  const mender = {
    ...PERSON,
    service: false,
    access: [{ library: "ledge", role: "mend", abilities: ["look", "mend"] }],
  };
  serve({
    "GET /libraries/ledge/pictures": PAGE,
    "GET /libraries/ledge/facets": FACETS,
    "GET /session": mender,
  });
  show(<Review library={LIBRARY} />, "/", mender as typeof PERSON);
  fireEvent.click(await screen.findByRole("checkbox", { name: "Choose kite.jpg" }));
  expect(screen.queryByRole("button", { name: "Treat again …" })).toBeNull();
  expect(screen.getByRole("button", { name: "Put originals back …" })).toBeTruthy();
  fireEvent.click(screen.getByRole("checkbox", { name: "Choose lamp.png" }));
  expect(screen.queryByRole("button", { name: "Put originals back …" })).toBeNull();
  fireEvent.keyDown(screen.getByRole("button", { name: "Own rule" }), { key: "Enter" });
  expect((await screen.findAllByRole("menuitem")).length).toBe(2);
});

test("the next page is fetched by the cursor of the one before", async () => {
  const rows = Array.from({ length: 60 }, (_, index) => picture(index + 1, `p${index}.jpg`));
  const sent = review(
    { "GET /libraries/ledge/pictures": { rows, total: 90, cursor: "onward" } },
    "/?view=rows",
  );
  await screen.findByRole("link", { name: "p0.jpg" });
  expect(sent.filter(({ path }) => path.endsWith("/pictures")).length, "not before it is near").toBe(1);
  vi.stubGlobal("scrollY", 60 * 76);
  fireEvent.scroll(window);
  await waitFor(() => expect(sent.at(-1)!.query["after"]).toBe("onward"));
});

test("where nothing fits, and where nothing comes, is said", async () => {
  const nothing = { rows: [], total: 0, cursor: null };
  review({ "GET /libraries/ledge/pictures": nothing }, "/l/ledge/review?search=otter");
  expect(await screen.findByRole("heading", { name: "No picture fits" })).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Show all pictures" }));
  await waitFor(() => expect(where()).toBe("/l/ledge/review"));
  cleanup();
  review({ "GET /libraries/ledge/pictures": undefined });
  expect(await screen.findByRole("alert")).toBeTruthy();
});
