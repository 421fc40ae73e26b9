// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import { NEW_WATERMARK, NEW_SIZE } from "../api/shapes";
import { CutsCard } from "../parts/Cuts";
import { choose, FILE, LIBRARY, serve, show } from "../testing";
import type { PictureDetail } from "../api/client";
import { WatermarksPage } from "./WatermarksPage";
import { cutBox, described, sized, SizesPage } from "./SizesPage";
import { TouchPage } from "./TouchPage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const button = (name: string | RegExp) => screen.getByRole("button", { name });
const EFFECT = {
  make: 4,
  remake: 1,
  remove: 2,
  stay: 3,
  too_small: 5,
  of_the_site: 1,
  taken: 1,
  taken_paths: ["2025/kite-card-520.jpg"],
  bytes: 60_000,
};
const CARD = {
  library: "ledge",
  name: "card",
  settings: { ...NEW_SIZE, way: "fill", height: 390, densities: [1, 2] },
  files: 12,
  bytes: 240_000,
  bytes_lightest: 180_000,
  waiting: 3,
  by: "The keeper",
  created_at: "2026-06-01T00:00:00Z",
};
const PAGE = { rows: [], total: 0, next: null };
const SIZES = {
  "GET /libraries/ledge/sizes": [CARD],
  "GET /libraries/ledge/pictures": PAGE,
  "GET /libraries/ledge/unused-sizes": {
    since: "2026-06-01T00:00:00Z",
    days: 30,
    sizes: [{ name: "card", files: 7, bytes: 70_000, young: 2, asked_for: 5, removed_unused: 3 }],
  },
};
const PICTURE = { id: 3, all_files: [FILE] } as unknown as PictureDetail;

test("sizes are told in words", () => {
  expect(described(NEW_SIZE)).toBe("inside 520 × any");
  expect(
    described({
      ...NEW_SIZE,
      way: "fill",
      height: 390,
      anchor: "top-left",
      densities: [1, 2],
      grey: true,
      format: "webp",
      level: "lean",
    }),
  ).toBe("520 × 390, cut around top left, at 1×, 2×, grey, WEBP, lean");
  expect(described({ ...NEW_SIZE, widths: [320, 640] })).toBe("widths 320, 640");
});

test("what a size makes of a picture is never larger", () => {
  expect(sized(1600, 1200, NEW_SIZE)).toEqual([520, 390]);
  expect(sized(400, 300, NEW_SIZE)).toBeNull();
  expect(sized(400, 300, { ...NEW_SIZE, way: "fill", height: 520 })).toEqual([300, 300]);
  expect(sized(400, 300, { ...NEW_SIZE, way: "stretch", width: 100, height: 300 })).toEqual([100, 300]);
});

test("cuts lie inside, at their place or around a point", () => {
  expect(cutBox(200, 100, 1, "top-left", { x: 0.9, y: 0.5 })).toEqual({
    left: 0,
    top: 0,
    right: 0.5,
    bottom: 1,
  });
  expect(cutBox(200, 100, 1, "right", { x: 0, y: 0 })).toEqual({ left: 0.5, top: 0, right: 1, bottom: 1 });
  expect(cutBox(200, 100, 1, "focus", { x: 0.9, y: 0.5 })).toEqual({
    left: 0.5,
    top: 0,
    right: 1,
    bottom: 1,
  });
  expect(cutBox(100, 200, 1, "matters", { x: 0.5, y: 0.5 }).top).toBe(0.25);
});

test("sizes are listed, with what waits and what nobody asked for", async () => {
  serve(SIZES);
  show(<SizesPage library={LIBRARY} />);
  expect(await screen.findByText("520 × 390, cut around focus, at 1×, 2×")).toBeTruthy();
  expect(screen.getByText(/3 files wait for the next run/)).toBeTruthy();
  expect(await screen.findByText(/7 files not asked for, 70.0 kB; 5 were/)).toBeTruthy();
});

test("what nobody asked for is removed after a question, and brought back", async () => {
  const asked = serve({
    ...SIZES,
    "POST /libraries/ledge/unused-sizes/remove": { files: 5, bytes: 50_000 },
    "POST /libraries/ledge/unused-sizes/bring-back": { files: 3, bytes: 0 },
  });
  show(<SizesPage library={LIBRARY} />);
  await choose(await screen.findByRole("combobox", { name: "Within" }), "90 days");
  await waitFor(() =>
    expect(asked.some(({ path, query }) => path.endsWith("/unused-sizes") && query.days === "90")).toBe(true),
  );
  expect(screen.getByText(/2 of them are too new to tell/)).toBeTruthy();
  expect(screen.getByText(/3 were removed/)).toBeTruthy();
  fireEvent.click(button("Remove 5 files"));
  expect(asked.some(({ method }) => method === "POST")).toBe(false);
  fireEvent.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Remove them" }));
  expect(await screen.findByText("5 files: the next run removes them.")).toBeTruthy();
  expect(asked.find(({ path }) => path.endsWith("/remove"))!.body).toEqual({ days: 90 });
  fireEvent.click(button("Bring back 3 files"));
  expect(await screen.findByText("3 files: the next run makes them again.")).toBeTruthy();
});

test("letting go too early is refused in the words of the service", async () => {
  serve(SIZES);
  show(<SizesPage library={LIBRARY} />);
  fireEvent.click(await screen.findByRole("button", { name: "Remove 5 files" }));
  fireEvent.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Remove them" }));
  expect(await within(screen.getByRole("dialog")).findByRole("alert")).toBeTruthy();
});

test("a size says what it would do before it is saved, and is saved as it was set", async () => {
  const asked = serve({
    ...SIZES,
    "GET /libraries/ledge/sizes": [],
    "POST /libraries/ledge/sizes/hero/effect": EFFECT,
    "PUT /libraries/ledge/sizes/hero": { ...CARD, name: "hero" },
  });
  show(<SizesPage library={LIBRARY} />);
  fireEvent.click(await screen.findByRole("button", { name: "Define the first" }));
  fireEvent.change(screen.getByRole("textbox", { name: /^Name/ }), { target: { value: "hero" } });
  await choose(screen.getByRole("combobox", { name: "How" }), /^Fill/);
  fireEvent.click(button("bottom right"));
  fireEvent.click(screen.getByRole("checkbox", { name: /^2×/ }));
  expect(await screen.findByText(/about 60.0 kB/)).toBeTruthy();
  expect(screen.getByText(/5 files not made/)).toBeTruthy();
  expect(screen.getByText("2025/kite-card-520.jpg")).toBeTruthy();
  fireEvent.click(button("Save"));
  await waitFor(() => expect(asked.some(({ method }) => method === "PUT")).toBe(true));
  expect(asked.find(({ method }) => method === "PUT")!.body).toMatchObject({
    way: "fill",
    width: 520,
    height: 390,
    anchor: "bottom-right",
    densities: [1, 2],
  });
});

test("what is refused is told, and nothing can be saved", async () => {
  serve({ ...SIZES, "GET /libraries/ledge/sizes": [] });
  show(<SizesPage library={LIBRARY} />, "/l/ledge/treat/sizes?width=260&height=195");
  expect(await screen.findByRole("alert")).toBeTruthy();
  expect((screen.getByRole("textbox", { name: /^Name/ }) as HTMLInputElement).value).toBe("place-260");
  expect((screen.getByRole("spinbutton", { name: "Height" }) as HTMLInputElement).value).toBe("195");
  expect((button("Save") as HTMLButtonElement).disabled).toBe(true);
});

test("a size is removed after saying how many files go", async () => {
  const asked = serve({
    ...SIZES,
    "POST /libraries/ledge/sizes/card/effect": { ...EFFECT, remove: 12 },
    "DELETE /libraries/ledge/sizes/card": null,
  });
  show(<SizesPage library={LIBRARY} />);
  fireEvent.click(await screen.findByRole("button", { name: "card" }));
  fireEvent.click(button("Remove"));
  expect(await screen.findByText(/removes 12 files/)).toBeTruthy();
  fireEvent.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Remove it" }));
  await waitFor(() => expect(asked.some(({ method }) => method === "DELETE")).toBe(true));
});

test("a ladder is found by bytes", async () => {
  const asked = serve({
    ...SIZES,
    "GET /libraries/ledge/sizes": [],
    "POST /libraries/ledge/ladder": { widths: [320, 700, 1100], bytes: [20_000, 45_000, 70_000], files: 40 },
  });
  show(<SizesPage library={LIBRARY} />);
  fireEvent.click(await screen.findByRole("button", { name: "New size" }));
  await choose(screen.getByRole("combobox", { name: "How" }), "A ladder of widths");
  fireEvent.click(button("Find by bytes"));
  expect(await screen.findByText(/700: 45.0 kB/)).toBeTruthy();
  expect((screen.getByRole("textbox", { name: "Widths" }) as HTMLInputElement).value).toBe("320, 700, 1100");
  expect(asked.find(({ path }) => path.endsWith("/ladder"))!.body).toEqual({
    least: 320,
    most: 1920,
    step: 25_000,
  });
});

test("the focal point goes by keyboard, and every size's cut is shown", async () => {
  const cuts = {
    x: 0.5,
    y: 0.5,
    by_hand: true,
    cuts: [{ name: "card", slot: "2x", width: 1040, height: 780, left: 0.1, top: 0, right: 0.9, bottom: 1 }],
  };
  const asked = serve({ "GET /pictures/3/cuts": cuts, "PUT /pictures/3/focus": { ...cuts, x: 0.52 } });
  show(<CutsCard slug="ledge" picture={PICTURE} />);
  expect(await screen.findByText("card at 2x")).toBeTruthy();
  expect(screen.getByAltText("What card shows").style.width).toBe("140px");
  const point = button(/^Focal point, 50 %/);
  fireEvent.keyDown(point, { key: "ArrowRight" });
  fireEvent.keyDown(button(/^Focal point, 52 %/), { key: "Enter" });
  await waitFor(() =>
    expect(asked.find(({ method }) => method === "PUT")?.body).toEqual({ focus: { x: 0.52, y: 0.5 } }),
  );
  fireEvent.click(await screen.findByRole("button", { name: "Find it again" }));
  await waitFor(() =>
    expect(asked.filter(({ method }) => method === "PUT").at(-1)?.body).toEqual({ focus: null }),
  );
});

test("a picture without sizes says where to define them; one that cannot be cut says why", async () => {
  serve({ "GET /pictures/3/cuts": { x: 0.4, y: 0.4, by_hand: false, cuts: [] } });
  show(<CutsCard slug="ledge" picture={PICTURE} />);
  expect((await screen.findByRole("link", { name: "Define sizes" })).getAttribute("href")).toBe(
    "/l/ledge/treat/sizes",
  );
  cleanup();
  serve({});
  show(<CutsCard slug="ledge" picture={PICTURE} />);
  expect(await screen.findByRole("alert")).toBeTruthy();
});

test("a watermark of words is defined, and what bears no picture yet says so", async () => {
  const bare = {
    library: "ledge",
    name: "lamp",
    settings: NEW_WATERMARK,
    picture: false,
    width: 0,
    height: 0,
    by: "",
    created_at: "2026-06-01T00:00:00Z",
  };
  const asked = serve({
    "GET /libraries/ledge/watermarks": [bare],
    "GET /libraries/ledge/sizes": [CARD],
    "GET /libraries/ledge/pictures": PAGE,
    "PUT /libraries/ledge/watermarks/trust": { ...bare, name: "trust" },
  });
  show(<WatermarksPage library={LIBRARY} />);
  expect(await screen.findByText(/until then nothing gets a watermark/)).toBeTruthy();
  fireEvent.click(button("New watermark"));
  expect((button("Save") as HTMLButtonElement).disabled).toBe(true);
  fireEvent.change(screen.getByRole("textbox", { name: /^Name/ }), { target: { value: "trust" } });
  fireEvent.change(screen.getByRole("textbox", { name: "Words" }), { target: { value: "Gannet Ledge" } });
  fireEvent.click(button("top left"));
  fireEvent.click(screen.getByRole("checkbox", { name: "All sizes" }));
  fireEvent.click(await screen.findByRole("checkbox", { name: "card" }));
  fireEvent.change(screen.getByRole("slider", { name: "Opacity" }), { target: { value: "40" } });
  fireEvent.click(button("Save"));
  await waitFor(() =>
    expect(asked.find(({ method }) => method === "PUT")?.body).toMatchObject({
      words: "Gannet Ledge",
      place: "top-left",
      sizes: ["card"],
      opacity: 0.4,
      originals: true,
    }),
  );
});

const TOUCHED = {
  picture_id: 3,
  steps: [{ kind: "contrast", amount: 10 }, { kind: "grey" }],
  original: "abc",
  width: 640,
  height: 480,
  by: "Rill",
  at: "2026-06-01T10:00:00Z",
};
const DETAIL = { ...PICTURE, library: "ledge", path: "2025/kite.jpg", name: "kite.jpg" };

function touching(more = {}) {
  const asked = serve({ "GET /pictures/3": DETAIL, "GET /pictures/3/touches": TOUCHED, ...more });
  show(
    <Routes>
      <Route path="/l/ledge/review/:picture/touch" element={<TouchPage library={LIBRARY} />} />
    </Routes>,
    "/l/ledge/review/3/touch",
  );
  return asked;
}

test("steps are added, set, moved and taken back, and saved in their order", async () => {
  const asked = touching({ "PUT /pictures/3/touches": TOUCHED });
  fireEvent.click(await screen.findByRole("button", { name: "1. Contrast" }));
  fireEvent.change(screen.getByRole("slider", { name: "Contrast" }), { target: { value: "25" } });
  fireEvent.click(button("Step 1 later"));
  await choose(screen.getByRole("combobox", { name: "Add a step" }), "Turn");
  fireEvent.click(button("Right"));
  fireEvent.click(button("Take step 1 back"));
  fireEvent.click(button("Save"));
  await waitFor(() =>
    expect(asked.find(({ method }) => method === "PUT")?.body).toEqual({
      steps: [
        { kind: "contrast", amount: 25 },
        { kind: "turn", quarters: 2, mirrored: false },
      ],
      original: "abc",
    }),
  );
});

test("a stroke that was not painted yet cannot be saved, and discarding takes all back", async () => {
  touching();
  await choose(await screen.findByRole("combobox", { name: "Add a step" }), "Paint over");
  expect(screen.getByText("Paint on the picture first.")).toBeTruthy();
  expect((button("Save") as HTMLButtonElement).disabled).toBe(true);
  fireEvent.click(button("Discard"));
  expect(screen.getAllByRole("listitem")).toHaveLength(2);
});

test("a picture that was replaced meanwhile is told in plain words", async () => {
  touching();
  fireEvent.click(await screen.findByRole("button", { name: "Take step 2 back" }));
  fireEvent.click(button("Save"));
  expect((await screen.findAllByRole("alert")).length).toBeGreaterThan(0);
});
