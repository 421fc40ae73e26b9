// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { job, LIBRARY, serve, show } from "../testing";
import { Connect } from "./Connect";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const OFFERED = {
  path: null,
  parent: null,
  folders: [],
  pictures: 0,
  bytes: 0,
  more: false,
  examples: [],
  guess: null,
  refusal: null,
};
const tick = (name: RegExp) => screen.getByLabelText(name) as HTMLInputElement;

test("what files say about themselves is chosen when a library is connected, and the place goes unless it is said", async () => {
  const sent = serve({
    "GET /folders": OFFERED,
    "POST /libraries": LIBRARY,
    "POST /libraries/ledge/surveys": job("survey", { state: "waiting" }),
    "GET /libraries": [LIBRARY],
  });
  show(<Connect />);
  await screen.findByLabelText("AVIF");
  expect(tick(/Rights and credit/).checked).toBe(true);
  expect(tick(/Place/).checked).toBe(false);
  fireEvent.click(tick(/Time/));
  fireEvent.click(tick(/WebP/));
  fireEvent.change(screen.getByLabelText(/Name/), { target: { value: "Ledge" } });
  fireEvent.change(screen.getByLabelText(/Folder/, { selector: "input" }), {
    target: { value: "/srv/ledge" },
  });
  fireEvent.click(screen.getByRole("button", { name: "Connect and survey" }));
  await waitFor(() => expect(sent.some(({ path }) => path.endsWith("surveys"))).toBe(true));
  expect(sent.find(({ method, path }) => method === "POST" && path === "/libraries")!.body).toEqual({
    name: "Ledge",
    root: "/srv/ledge",
    level: "everyday",
    copies: ["avif"],
    metadata: ["rights", "time"],
  });
});

test("a refusal is said and nothing is surveyed", async () => {
  const sent = serve({ "GET /folders": OFFERED });
  show(<Connect />);
  fireEvent.change(screen.getByLabelText(/Name/), { target: { value: "Ledge" } });
  fireEvent.change(screen.getByLabelText(/Folder/, { selector: "input" }), {
    target: { value: "/srv/ledge" },
  });
  fireEvent.click(screen.getByRole("button", { name: "Connect and survey" }));
  expect(await screen.findByText(/There is no such thing/)).toBeTruthy();
  expect(sent.some(({ path }) => path.endsWith("surveys"))).toBe(false);
});

test("a folder is chosen by what is in it, and what cannot be connected says why", async () => {
  serve({
    "GET /folders": {
      ...OFFERED,
      path: "/srv/uploads",
      folders: [{ name: "2026", path: "/srv/uploads/2026" }],
      pictures: 1200,
      bytes: 3_000_000,
      more: true,
      examples: ["/srv/uploads/2026/a b.jpg"],
      guess: "Folders by year and month.",
    },
  });
  show(<Connect />);
  expect(await screen.findByText(/At least 1,200 picture files below it/)).toBeTruthy();
  expect(screen.getByText("Folders by year and month.")).toBeTruthy();
  expect(screen.getByAltText("a b.jpg").getAttribute("src")).toContain("a%20b.jpg");
  fireEvent.click(screen.getByRole("button", { name: "Choose this folder" }));
  expect((screen.getByLabelText(/Folder/, { selector: "input" }) as HTMLInputElement).value).toBe(
    "/srv/uploads",
  );
  cleanup();
  serve({ "GET /folders": { ...OFFERED, path: "/srv/site", refusal: "it is the site itself" } });
  show(<Connect />);
  expect(await screen.findByText(/It cannot be connected: it is the site itself/)).toBeTruthy();
});
