// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { job, LIBRARY, serve, show } from "../testing";
import { Connect } from "./Connect";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const tick = (name: RegExp) => screen.getByLabelText(name) as HTMLInputElement;

test("what files say about themselves is chosen when a library is connected, and the place goes unless it is said", async () => {
  const sent = serve({
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
  fireEvent.change(screen.getByLabelText(/Folder/), { target: { value: "/srv/ledge" } });
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
  const sent = serve({});
  show(<Connect />);
  fireEvent.change(screen.getByLabelText(/Name/), { target: { value: "Ledge" } });
  fireEvent.change(screen.getByLabelText(/Folder/), { target: { value: "/srv/ledge" } });
  fireEvent.click(screen.getByRole("button", { name: "Connect and survey" }));
  expect(await screen.findByText(/There is no such thing/)).toBeTruthy();
  expect(sent.some(({ path }) => path.endsWith("surveys"))).toBe(false);
});
