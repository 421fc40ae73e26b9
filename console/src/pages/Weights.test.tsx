// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import type { PagePicture, Reading, Weighing } from "../api/weighing";
import { LIBRARY, job, pageOf, serve, show } from "../testing";
import { secretsOf, SitePagePage } from "./SitePagePage";
import { WeightsPage } from "./WeightsPage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const spread = (median: number) => ({ median, low: median, high: median });
const PICTURE: PagePicture = {
  number: 1,
  address: "https://ledge.example/media/2025/kite.jpg",
  how: "img",
  format: "jpeg",
  bytes: 500_000,
  natural_width: 2000,
  natural_height: 1000,
  needed_width: 800,
  needed_height: 400,
  box: { left: 10, top: 20, width: 800, height: 400 },
  first_view: true,
  lazy: false,
  stated: false,
  preloaded: false,
  largest_paint: true,
  library: "ledge",
  path: "2025/kite.jpg",
  file_id: 9,
  picture_id: 3,
  form: "file",
  untreated: true,
  seen: { score: 88.4, worst: 71.2, left: 0.25, top: 0.5 },
  said: null,
};
const FOREIGN: PagePicture = {
  ...PICTURE,
  number: 2,
  address: "https://cdn.example/logo%20one.svg",
  path: null,
  library: null,
  picture_id: null,
  file_id: null,
  seen: null,
  natural_width: 800,
  natural_height: 400,
  format: "svg",
  bytes: 2_000,
  first_view: false,
  largest_paint: false,
  stated: true,
  lazy: true,
};

function reading(pictures: number, lcp: number, device: "phone" | "desktop" = "phone"): Reading {
  return {
    device,
    line: "mobile",
    processor: "slow",
    passes: 3,
    landed: "https://ledge.example/",
    bytes: spread(pictures + 40_000),
    first_bytes: spread(pictures),
    requests: spread(12),
    ttfb: spread(0.1),
    fcp: spread(0.4),
    lcp: spread(lcp),
    cls: spread(0.02),
    load: spread(1.5),
    largest_paint: "x",
    kinds: [
      { name: "pictures", requests: 4, bytes: pictures },
      { name: "scripts", requests: 2, bytes: 40_000 },
    ],
    pictures: [PICTURE, FOREIGN],
    width: 412,
    height: 3000,
    shots: [
      { id: 31, part: "first", width: 412, height: 823, scale: 1 },
      { id: 32, part: "whole", width: 412, height: 3000, scale: 1 },
    ],
    notes: [],
  } as Reading;
}

function weighing(id: number, part: Partial<Weighing> = {}): Weighing {
  return {
    id,
    library: "ledge",
    page_id: 4,
    address: "https://ledge.example/",
    kind: "real",
    what_if: null,
    recipe_version: null,
    origin: "person",
    run_id: null,
    by: "",
    at: `2026-06-0${id}T10:00:00Z`,
    code: null,
    fault: null,
    readings: [reading(1_000_000, 2.4)],
    findings: [],
    notes: [],
    budget: null,
    over: [],
    ...part,
  } as Weighing;
}

const point = (weighing_id: number, bytes: number, kind = "real", device = "phone") => ({
  weighing_id,
  at: "2026-06-01T10:00:00Z",
  kind,
  device,
  bytes,
  pictures: bytes,
  requests: 9,
  lcp: 1.2,
  cls: 0,
  what_if: null,
  run_id: null,
  shot: null,
});
const PAGE = {
  id: 4,
  library: "ledge",
  address: "https://ledge.example/",
  budget: { bytes: 400_000, lcp: 2.5 },
  schedule: "30 6 * * 1",
  after_runs: true,
  has_secrets: true,
  next_at: null,
  weighings: 3,
  fault: null,
  latest: [point(3, 300_000)],
  predicted: [],
  first: [point(1, 1_040_000)],
  over: 1,
};
const FINDINGS = [
  {
    code: "too-large",
    device: "phone",
    pictures: [1],
    text: "it has 6.2 times the pixels that its place shows",
    action: "Make a size of 800 × 400 for this place.",
    bytes: 300_000,
    seconds: 0,
  },
  {
    code: "lazy-largest",
    device: "phone",
    pictures: [1],
    text: "it is loaded late",
    action: "Take loading away.",
    bytes: 0,
    seconds: 0.8,
  },
  {
    code: "no-size",
    device: "phone",
    pictures: [1],
    text: "no size is stated",
    action: "State it.",
    bytes: 0,
    seconds: 0,
  },
  {
    code: "untreated",
    device: "desktop",
    pictures: [1],
    text: "only on a desktop",
    action: "Treat it.",
    bytes: 5_000,
    seconds: 0,
  },
];
const THREE = [
  weighing(3, {
    readings: [reading(290_000, 1.3)],
    findings: FINDINGS,
    run_id: 8,
    budget: PAGE.budget,
    over: [{ device: "phone", name: "lcp", allowed: 1, found: 1.3 }],
  } as Partial<Weighing>),
  weighing(2, {
    kind: "predicted",
    what_if: { level: "lean", settings: null, fit: false, markup: true },
    readings: [reading(300_000, 1.2)],
  } as Partial<Weighing>),
  weighing(1),
];
const ONE_PAGE = {
  "GET /site-pages/4": PAGE,
  "GET /site-pages/4/weighings": pageOf(THREE),
  "GET /site-pages/4/history": [point(1, 1_040_000), point(2, 340_000, "predicted"), point(3, 330_000)],
  "GET /libraries/ledge/jobs": pageOf([]),
  "GET /libraries/ledge/needs": [],
};

const button = (name: string | RegExp) => screen.getByRole("button", { name }) as HTMLButtonElement;
const onePage = () =>
  show(
    <Routes>
      <Route path="/l/ledge/weights/:page" element={<SitePagePage library={LIBRARY} />} />
      <Route path="*" element={<p>elsewhere</p>} />
    </Routes>,
    "/l/ledge/weights/4",
  );

test("pages are listed with what they weighed at first and weigh now, on the device that is chosen", async () => {
  serve({
    "GET /libraries/ledge/site-pages": [
      { ...PAGE, latest: [{ ...point(3, 300_000), shot: 77 }], predicted: [point(4, 210_000)] },
      {
        ...PAGE,
        id: 5,
        address: "https://ledge.example/visit",
        fault: "the site answers 404",
        latest: [],
        predicted: [],
        first: [],
        over: 0,
      },
    ],
    "GET /libraries/ledge/jobs": pageOf([]),
  });
  show(<WeightsPage library={LIBRARY} />);
  const front = (await screen.findByText("ledge.example/")).closest("li")!;
  expect(front.textContent).toContain("300 kB −71 % of 1.04 MB");
  expect(front.textContent).toContain("predicted: about 210 kB, −30 %");
  const shot = front.querySelector("img")!;
  expect(shot.getAttribute("src")).toBe("/api/v1/libraries/ledge/shots/77");
  fireEvent.error(shot);
  expect(front.textContent, "a picture that was dropped since").toContain("no picture of the page");
  expect(screen.getByText("over budget")).toBeTruthy();
  expect(screen.getByText("the site answers 404")).toBeTruthy();
  fireEvent.click(button("Desktop"));
  expect(screen.getByText("not weighed on a desktop yet")).toBeTruthy();
});

test("before any page was weighed the next step is said, and a start sends what was written", async () => {
  const asked = serve({
    "GET /libraries/ledge/site-pages": [],
    "GET /libraries/ledge/jobs": pageOf([]),
    "POST /libraries/ledge/weighings": job("weighing", {
      state: "waiting",
      weighing: { pages: 0, weighed: 0, at: "", weighings: [], notes: [] },
    }),
  });
  show(<WeightsPage library={LIBRARY} />);
  expect(await screen.findByText("No page has been weighed yet")).toBeTruthy();
  fireEvent.change(screen.getByLabelText(/Pages, one a line/), { target: { value: "/\n/visit" } });
  fireEvent.click(button("Weigh"));
  await waitFor(() => expect(asked.filter(({ method }) => method === "POST")).toHaveLength(1));
  expect(asked.find(({ method }) => method === "POST")!.body).toMatchObject({
    addresses: ["/", "/visit"],
    what_if: [{ fit: false, markup: true }],
  });
  fireEvent.change(screen.getByLabelText(/Pages, one a line/), { target: { value: "/sitemap.xml" } });
  fireEvent.click(screen.getByRole("checkbox"));
  fireEvent.click(button("Weigh"));
  await waitFor(() => expect(asked.filter(({ method }) => method === "POST")).toHaveLength(2));
  expect(asked.filter(({ method }) => method === "POST")[1]!.body).toMatchObject({
    addresses: [],
    sitemap: "https://ledge.example/sitemap.xml",
    what_if: [],
  });
});

test("a weighing that is under way is told, one that failed too, and what cannot be asked", async () => {
  const running = job("weighing", {
    state: "running",
    weighing: { pages: 3, weighed: 1, at: "https://ledge.example/visit", weighings: [1], notes: [] },
  });
  serve({ "GET /libraries/ledge/jobs": pageOf([running]) });
  show(<WeightsPage library={LIBRARY} />);
  expect(await screen.findByText(/Weighing https:\/\/ledge.example\/visit: 1 of 3 pages done/)).toBeTruthy();
  expect((await screen.findByRole("alert")).textContent).toContain("There is no such thing");
  cleanup();
  serve({
    "GET /libraries/ledge/site-pages": [],
    "GET /libraries/ledge/jobs": pageOf([{ ...running, state: "failed", reason: "the list names no page" }]),
  });
  show(<WeightsPage library={LIBRARY} />);
  expect((await screen.findByRole("note")).textContent).toContain("the list names no page");
});

test("before, predicted and after stand side by side, and how right the predicting was", async () => {
  serve(ONE_PAGE);
  onePage();
  expect((await screen.findAllByText("As it is")).length).toBeGreaterThan(0);
  expect(screen.getByText("What if: at lean")).toBeTruthy();
  expect(screen.getAllByText("1.04 MB").length).toBeGreaterThan(0);
  expect(screen.getByText(/after run 8/)).toBeTruthy();
  expect(
    screen.getByText(/differs from what was predicted by −2.9 % in bytes and \+8.3 % in the largest paint/),
  ).toBeTruthy();
  expect(screen.getByLabelText("Pictures: 290 kB instead of 1.00 MB")).toBeTruthy();
  expect(screen.getByText(/Over its budget: lcp on phone 1.30 s, allowed 1.00 s/)).toBeTruthy();
  fireEvent.click(button("Desktop"));
  expect(screen.getByText("The page was not weighed on this device.")).toBeTruthy();
});

test("findings say what they win and lead to their picture", async () => {
  const asked = serve({
    ...ONE_PAGE,
    "POST /weighings/3/needs": [
      {
        id: 1,
        path: "2025/kite.jpg",
        picture_id: 3,
        width: 800,
        height: 400,
        page: "",
        at: "2026-06-01T10:00:00Z",
      },
    ],
  });
  onePage();
  const card = within((await screen.findByRole("heading", { name: "What to do" })).closest("section")!);
  expect(card.getByText("−300 kB")).toBeTruthy();
  expect(card.getByText("−0.80 s")).toBeTruthy();
  expect(card.getByText("to mend")).toBeTruthy();
  expect(card.queryByText(/only on a desktop/)).toBeNull();
  fireEvent.click(card.getAllByRole("button", { name: "Show picture 1" })[0]!);
  expect(screen.getByText(/As it is seen here/).textContent).toContain("88.4");
  expect(screen.getByText(/2000 × 1000 pixels, for a place of 800 × 400/)).toBeTruthy();
  expect(screen.getByText(/the largest paint, its size is not stated/)).toBeTruthy();
  fireEvent.click(button("Note the size that this place needs"));
  expect(await screen.findByText("Its size is noted as a proposal for a named size.")).toBeTruthy();
  expect(asked.find(({ path }) => path === "/weighings/3/needs")!.body).toEqual({
    device: "phone",
    number: 1,
  });
  fireEvent.click(screen.getByRole("button", { name: /logo one.svg/, expanded: false }));
  expect(screen.getByText("This picture belongs to no library that is connected here.")).toBeTruthy();
});

test("the page's pictures are outlined on its shot, and one that is far too large is in clay", async () => {
  serve(ONE_PAGE);
  onePage();
  const outline = await screen.findByRole("button", { name: "Picture 1: 2025/kite.jpg" });
  expect(outline.className).toContain("border-clay");
  expect(outline.style.top).toBe(`${(100 * 20) / 3000}%`);
  expect(screen.getByAltText("The page as it was seen").getAttribute("src")).toBe(
    "/api/v1/libraries/ledge/shots/32",
  );
  fireEvent.error(screen.getByAltText("The page as it was seen"));
  expect(screen.getByText("The picture of the page cannot be shown.")).toBeTruthy();
});

test("a point of the history is looked at when it is chosen", async () => {
  serve(ONE_PAGE);
  onePage();
  const first = await screen.findByRole("button", { name: /As it is, .*1.04 MB/ });
  fireEvent.click(first);
  await waitFor(() => expect(first.getAttribute("aria-pressed")).toBe("true"));
  expect(screen.queryByText(/Over its budget/)).toBeNull();
});

test("what if asks for levels, sizes and markup", async () => {
  const asked = serve({
    ...ONE_PAGE,
    "POST /libraries/ledge/weighings": job("weighing", {
      state: "waiting",
      weighing: { pages: 1, weighed: 0, at: "", weighings: [], notes: [] },
    }),
  });
  onePage();
  fireEvent.click(await screen.findByRole("button", { name: "What if …" }));
  fireEvent.click(screen.getByRole("checkbox", { name: /At lean/ }));
  fireEvent.click(screen.getByRole("checkbox", { name: /In the size that each place needs/ }));
  fireEvent.click(button("Predict"));
  await waitFor(() => expect(asked.some(({ method }) => method === "POST")).toBe(true));
  expect(asked.find(({ method }) => method === "POST")!.body).toMatchObject({
    addresses: ["https://ledge.example/"],
    what_if: [
      { fit: true, markup: true },
      { level: "lean", fit: true, markup: true },
    ],
  });
});

test("treating says how many pictures, and leads to the run", async () => {
  const asked = serve({ ...ONE_PAGE, "POST /weighings/3/run": { id: 12 } });
  onePage();
  fireEvent.click(await screen.findByRole("button", { name: "Treat what it shows" }));
  expect(screen.getByText(/1 picture with all their files/)).toBeTruthy();
  fireEvent.click(button("Treat"));
  expect(await screen.findByText("elsewhere")).toBeTruthy();
  expect(asked.find(({ path }) => path === "/weighings/3/run")!.body).toEqual({ everything: false });
});

test("settings keep what signs in unless something is written", async () => {
  const asked = serve({ ...ONE_PAGE, "PUT /libraries/ledge/site-pages": PAGE });
  onePage();
  fireEvent.click(await screen.findByRole("button", { name: "Settings" }));
  fireEvent.change(screen.getByLabelText(/Whole page/), { target: { value: "500" } });
  fireEvent.click(button("Save"));
  await waitFor(() => expect(asked.some(({ method }) => method === "PUT")).toBe(true));
  expect(asked.find(({ method }) => method === "PUT")!.body).toEqual({
    budget: { bytes: 500_000, lcp: 2.5 },
    schedule: "30 6 * * 1",
    after_runs: true,
    secrets: null,
  });
});

test("what signs in is read from lines", () => {
  expect(secretsOf("Cookie: a=1; b=x=y\nAuthorization: Basic eDp5\nnonsense\n")).toEqual({
    cookies: [
      { name: "a", value: "1" },
      { name: "b", value: "x=y" },
    ],
    headers: [{ name: "Authorization", value: "Basic eDp5" }],
  });
  expect(secretsOf("")).toEqual({ cookies: [], headers: [] });
});

test("a page that was never weighed, one that failed, and one that is not there", async () => {
  serve({
    ...ONE_PAGE,
    "GET /site-pages/4": { ...PAGE, weighings: 0, fault: "the site does not answer" },
    "GET /site-pages/4/weighings": pageOf([]),
  });
  onePage();
  expect(await screen.findByText("It has not been weighed yet")).toBeTruthy();
  expect(screen.getByRole("note").textContent).toContain("the site does not answer");
  cleanup();
  serve({});
  onePage();
  expect((await screen.findByRole("alert")).textContent).toContain("There is no such thing");
});
