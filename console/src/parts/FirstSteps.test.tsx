// @vitest-environment jsdom
import { cleanup, fireEvent, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Library } from "../api/client";
import { LIBRARY, PERSON, job, pageOf, serve, show } from "../testing";
import { FirstSteps } from "./FirstSteps";

beforeEach(() => localStorage.clear());
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const NEW = {
  ...LIBRARY,
  files_treated: 0,
  recipe_version: 1,
  last_survey: job("survey", { state: "finished" }),
} as unknown as Library;
const ANSWERS = {
  "GET /machine": { verdict: "fine", lines: [] },
  "GET /libraries/ledge/jobs": pageOf([]),
  "GET /libraries/ledge/site-pages": [],
};

test("what is so is ticked, and the next thing to do is marked", async () => {
  serve({ ...ANSWERS, "GET /libraries/ledge/jobs": pageOf([job("forecast", { state: "finished" })]) });
  show(<FirstSteps library={NEW} sent={undefined} />);
  expect(await screen.findByText("3 of 7 done")).toBeTruthy();
  const next = screen.getAllByRole("listitem").filter((one) => one.getAttribute("aria-current") === "step");
  expect(next.map((one) => one.textContent)).toEqual([expect.stringContaining("Weigh a page")]);
});

test("who knows the way skips it, and finds it again", async () => {
  serve(ANSWERS);
  show(<FirstSteps library={NEW} sent={undefined} />);
  fireEvent.click(await screen.findByRole("button", { name: "Skip" }));
  expect(screen.queryByText("First steps")).toBeNull();
  cleanup();
  show(<FirstSteps library={NEW} sent={undefined} />);
  fireEvent.click(await screen.findByRole("button", { name: "Show the first steps" }));
  expect(await screen.findByText("First steps")).toBeTruthy();
});

test("nothing is shown once all is done, nor to who may not treat", async () => {
  const page = { latest: [{}] };
  const done = { ...NEW, files_treated: 9, delivery: { ...LIBRARY.delivery, public: true } } as Library;
  serve({ ...ANSWERS, "GET /libraries/ledge/site-pages": [page] });
  const { container } = show(<FirstSteps library={done} sent={undefined} />);
  await vi.waitFor(() => expect(container.textContent).toBe(""));
  cleanup();
  const looks = {
    ...PERSON,
    service: false,
    access: [{ library: "ledge", role: "look", abilities: ["look"] }],
  };
  serve(ANSWERS);
  const other = show(<FirstSteps library={NEW} sent={undefined} />, "/", looks as typeof PERSON);
  expect(other.container.textContent).toBe("");
});
