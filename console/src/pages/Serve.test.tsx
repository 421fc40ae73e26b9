// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Library } from "../api/client";
import { DELIVERY, LIBRARY, serve, show } from "../testing";
import { MarkupPage } from "./MarkupPage";
import { ServePage } from "./ServePage";
import { WaysPage } from "./WaysPage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const sent = (name: string, requests: number, bytes: number, bytes_before: number) => ({
  name,
  requests,
  bytes,
  bytes_before,
});
const TRAFFIC = {
  days: 30,
  total: sent("", 1200, 40_000_000, 100_000_000),
  bots: sent("", 300, 9_000_000, 20_000_000),
  by_day: [sent("2026-11-24", 500, 15_000_000, 40_000_000), sent("2026-11-25", 700, 25_000_000, 60_000_000)],
  by_format: [sent("avif", 900, 20_000_000, 70_000_000), sent("jpeg", 300, 20_000_000, 30_000_000)],
  by_picture: [sent("2025/kite.jpg", 400, 10_000_000, 30_000_000)],
};
const NOTHING = {
  days: 30,
  total: sent("", 0, 0, 0),
  bots: sent("", 0, 0, 0),
  by_day: [],
  by_format: [],
  by_picture: [],
};
const got = (browser: string, media_type: string, bytes: number, fault: string | null = null) => ({
  browser,
  address: "https://ledge.example/media/kite.jpg",
  status: 200,
  media_type,
  bytes,
  headers: { vary: "Accept" },
  cache: browser === "avif" ? "edge: from its store, 9 s left" : null,
  fault,
});
const nowhere = { ...LIBRARY, delivery: { ...DELIVERY, address: null } } as unknown as Library;

function button(name: string | RegExp) {
  return screen.getByRole("button", { name }) as HTMLButtonElement;
}

test("what was sent is summed up, by day, format and picture, for as many days as are asked for", async () => {
  const asked = serve({ "GET /libraries/ledge/traffic": TRAFFIC });
  show(<ServePage library={LIBRARY} />);
  expect(await screen.findByText("−60 %")).toBeTruthy();
  expect(screen.getByText("instead of 100 MB")).toBeTruthy();
  expect(screen.getByText(/more to programs, 9.00 MB/)).toBeTruthy();
  expect(screen.getByText("AVIF")).toBeTruthy();
  expect(screen.getByText("2025/kite.jpg")).toBeTruthy();
  fireEvent.click(button("7 days"));
  await waitFor(() =>
    expect(asked.filter(({ path }) => path === "/libraries/ledge/traffic")).toHaveLength(2),
  );
  expect(button("7 days").getAttribute("aria-pressed")).toBe("true");
});

test("before anything was counted, the next step is said", async () => {
  serve({ "GET /libraries/ledge/traffic": NOTHING });
  show(<ServePage library={nowhere} />);
  expect(await screen.findByText("Nothing was counted yet")).toBeTruthy();
  expect(screen.getByText(/plumcrate traffic ledge --log/)).toBeTruthy();
  expect(screen.getByRole("note").textContent).toContain("not known yet where the site serves");
  expect(button("Ask").disabled).toBe(true);
});

test("what cannot be asked is told, and can be tried again", async () => {
  serve({});
  show(<ServePage library={LIBRARY} />);
  expect((await screen.findByRole("alert")).textContent).toContain("There is no such thing");
  expect(button("Try again")).toBeTruthy();
});

test("each browser's answer stands beside the others, with what is wrong", async () => {
  const row = {
    path: "2025/kite.jpg",
    file_id: 9,
    bytes: 500,
    lightest: 400,
    got: [
      got("old", "image/jpeg", 500),
      got("webp", "image/jpeg", 500, "image/webp would be lighter"),
      got("avif", "image/avif", 400),
    ],
  };
  const asked = serve({
    "GET /libraries/ledge/traffic": NOTHING,
    "POST /libraries/ledge/asking": {
      rows: [row],
      notes: ["3 more pictures of the page were not asked for"],
    },
  });
  show(<ServePage library={LIBRARY} />);
  fireEvent.change(screen.getByLabelText(/A page of the site/), { target: { value: "/visit" } });
  fireEvent.click(button("Ask"));
  expect(await screen.findByText("1 answer is not as they should be.")).toBeTruthy();
  expect(screen.getByText("image/webp would be lighter")).toBeTruthy();
  expect(screen.getByText("edge: from its store, 9 s left")).toBeTruthy();
  expect(screen.getByText(/3 more pictures/)).toBeTruthy();
  const avif = screen.getByText("One with AVIF").closest("figure")!;
  expect(within(avif).getByText("400 B")).toBeTruthy();
  expect(avif.querySelector("img")?.getAttribute("src")).toContain("version=avif");
  expect(asked.find(({ method }) => method === "POST")?.body).toEqual({ most: 20, page: "/visit" });
  fireEvent.change(screen.getByLabelText(/A page of the site/), { target: { value: "2025/kite.jpg" } });
  fireEvent.click(button("Ask"));
  await waitFor(() =>
    expect(asked.filter(({ method }) => method === "POST")[1]?.body).toEqual({
      most: 20,
      path: "2025/kite.jpg",
    }),
  );
});

test("ways are saved without the markup, and discarded whole", async () => {
  const changed = {
    ...DELIVERY,
    public: true,
    caches: { purge: ["http://a:1", "http://b:2"], tag_header: "Cache-Tag" },
  };
  const asked = serve({
    "PATCH /libraries/ledge": { ...LIBRARY, delivery: changed },
    "GET /libraries/ledge/server-rules/nginx": "location",
  });
  show(<WaysPage library={LIBRARY} />);
  fireEvent.click(screen.getByLabelText(/Everybody may fetch/));
  expect(screen.getByText(/\/media\/ledge\//)).toBeTruthy();
  fireEvent.change(screen.getByLabelText(/Caches to purge/), {
    target: { value: "http://a:1\nhttp://b:2\n" },
  });
  fireEvent.change(screen.getByLabelText(/Header for tags/), { target: { value: "Cache-Tag" } });
  fireEvent.click(button("Save"));
  const { markup: _, ...ways } = changed;
  await waitFor(() =>
    expect(asked.find(({ method }) => method === "PATCH")?.body).toEqual({ delivery: ways }),
  );
  fireEvent.click(button("Discard"));
  expect((screen.getByLabelText(/Caches to purge/) as HTMLTextAreaElement).value).toBe("");
  expect((screen.getByLabelText(/Everybody may fetch/) as HTMLInputElement).checked).toBe(false);
});

test("rules are shown for each server, and copied", async () => {
  const copied: string[] = [];
  vi.stubGlobal("navigator", {
    ...navigator,
    clipboard: { writeText: async (text: string) => void copied.push(text) },
  });
  serve({
    "GET /libraries/ledge/server-rules/nginx": "of nginx",
    "GET /libraries/ledge/server-rules/caddy": "of caddy",
  });
  show(<WaysPage library={LIBRARY} />);
  expect((await screen.findByLabelText("Rules for nginx")).textContent).toContain("of nginx");
  fireEvent.click(button("Copy"));
  await screen.findByRole("button", { name: "Copied" });
  expect(copied).toHaveLength(1);
  fireEvent.click(button("Caddy"));
  expect((await screen.findByLabelText("Rules for Caddy")).textContent).toContain("of caddy");
  fireEvent.click(button("Apache httpd"));
  expect((await screen.findByRole("alert")).textContent).toContain("There is no such thing");
});

test("without an address there are no rules, and that is said", () => {
  serve({});
  show(<WaysPage library={nowhere} />);
  expect(screen.getByRole("note").textContent).toContain("First set where the site serves");
});

test("caches that were not told are spoken of", async () => {
  const told = {
    ...LIBRARY,
    delivery: { ...DELIVERY, caches: { purge: ["http://a:1"], tag_header: null } },
  } as unknown as Library;
  serve({
    "GET /libraries/ledge/purges": { waiting: 4, failing: 4, said: "the cache http://a:1 does not answer" },
  });
  show(<WaysPage library={told} />);
  expect((await screen.findByText(/4 addresses wait/)).textContent).toContain("does not answer");
});

test("markup is saved by itself, lists by line", async () => {
  const markup = {
    ...DELIVERY.markup,
    lazy: false,
    eager: 5,
    placeholder: "preview",
    no_pages: ["/admin/**", "/shop"],
  };
  const asked = serve({ "PATCH /libraries/ledge": { ...LIBRARY, delivery: { ...DELIVERY, markup } } });
  show(<MarkupPage library={LIBRARY} />);
  expect(button("Save").disabled).toBe(true);
  fireEvent.click(screen.getByLabelText(/Load pictures when they come near/));
  fireEvent.change(screen.getByLabelText("Pictures that load at once"), { target: { value: "5" } });
  fireEvent.click(screen.getByLabelText(/A tiny preview/));
  fireEvent.change(screen.getByLabelText(/^Pages/), { target: { value: "/admin/**\n\n /shop \n" } });
  fireEvent.click(button("Save"));
  await waitFor(() =>
    expect(asked.find(({ method }) => method === "PATCH")?.body).toEqual({ delivery: { markup } }),
  );
});
