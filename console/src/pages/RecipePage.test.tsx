// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { EFFECT, LIBRARY, RECIPE, serve, show } from "../testing";
import { RecipePage } from "./RecipePage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const ANSWERS = {
  "GET /libraries/ledge/recipe": RECIPE,
  "GET /libraries/ledge/folders": ["2024", "2025"],
  "POST /libraries/ledge/recipe/effect": EFFECT,
  "PUT /libraries/ledge/recipe": { ...RECIPE, version: 3 },
};

async function opened() {
  const sent = serve(ANSWERS);
  show(<RecipePage library={LIBRARY} />);
  await screen.findByText(/version 2, saved by The keeper/);
  return sent;
}

test("what it would do is asked as settings change, and saved as they are", async () => {
  const sent = await opened();
  fireEvent.click(await screen.findByLabelText("AVIF", { selector: "input[type=checkbox]" }));
  fireEvent.click(screen.getByRole("button", { name: "Save as version 3" }));
  await waitFor(() => expect(sent.some(({ method }) => method === "PUT")).toBe(true));
  const saved = sent.find(({ method }) => method === "PUT")!.body as typeof RECIPE.settings;
  expect(saved.copies).toEqual(["webp"]);
  expect(saved.metadata).toEqual(["rights"]);
});

test("what somebody else saved meanwhile is not overwritten unless wanted", async () => {
  const answers: Record<string, unknown> = {
    ...ANSWERS,
    "PUT /libraries/ledge/recipe": {
      type: "urn:plumcrate:problem:changed-meanwhile",
      title: "Somebody else changed it meanwhile",
      status: 412,
      detail: "Ann saved version 3 while you changed 2",
    },
  };
  const sent = serve(answers);
  show(<RecipePage library={LIBRARY} />);
  await screen.findByText(/version 2, saved by/);
  answers["GET /libraries/ledge/recipe"] = { ...RECIPE, version: 3, by: "Ann" };
  fireEvent.click(await screen.findByLabelText("AVIF", { selector: "input[type=checkbox]" }));
  fireEvent.click(screen.getByRole("button", { name: "Save as version 3" }));
  expect(await screen.findByText(/Ann saved version 3 meanwhile/)).toBeTruthy();
  expect(screen.getByText("you changed it to webp")).toBeTruthy();
  answers["PUT /libraries/ledge/recipe"] = { ...RECIPE, version: 4 };
  fireEvent.click(screen.getByRole("button", { name: "Keep mine" }));
  fireEvent.click(await screen.findByRole("button", { name: "Save as version 4" }));
  await waitFor(() => expect(sent.filter(({ method }) => method === "PUT").length).toBe(2));
  const saved = sent.filter(({ method }) => method === "PUT");
  expect(saved.map(({ basis }) => basis)).toEqual(['"2"', '"3"']);
  expect((saved[1]!.body as typeof RECIPE.settings).copies).toEqual(["webp"]);
});

test("discarding takes back everything that was typed, also in fields that are read when they are left", async () => {
  await opened();
  const sizes = () => screen.getByLabelText(/Chosen sizes/) as HTMLInputElement;
  fireEvent.change(sizes(), { target: { value: "640x480" } });
  fireEvent.blur(sizes());
  const width = () => screen.getByLabelText("Largest width") as HTMLInputElement;
  fireEvent.change(width(), { target: { value: "1600" } });
  fireEvent.click(await screen.findByRole("button", { name: "Discard" }));
  expect(sizes().value).toBe("300x200");
  expect(width().value).toBe("");
  expect(screen.queryByRole("button", { name: "Discard" })).toBeNull();
});

test("a new rule changes nothing until it is told what to do", async () => {
  const sent = await opened();
  fireEvent.click(screen.getByRole("button", { name: /rule/i }));
  expect(screen.getByRole("combobox", { name: "Then" }).textContent).toBe("treat at the level Everyday");
  await waitFor(() => {
    const asked = sent.filter(({ path }) => path.endsWith("effect")).at(-1)!.body as typeof RECIPE.settings;
    expect(asked.rules[0]).toMatchObject({ leave: false, how: { level: "everyday" } });
  });
});

test("the sizes of a rule are spoken as they are meant", async () => {
  const sent = await opened();
  fireEvent.click(screen.getByRole("button", { name: /rule/i }));
  fireEvent.change(screen.getByLabelText("At least so many kilobytes"), { target: { value: "200" } });
  fireEvent.change(screen.getByLabelText("Less than so many kilobytes"), { target: { value: "900" } });
  await waitFor(() => {
    const asked = sent.filter(({ path }) => path.endsWith("effect")).at(-1)!.body as typeof RECIPE.settings;
    expect(asked.rules[0]!.when).toMatchObject({ larger_than: 200_000, smaller_than: 900_000 });
  });
});

test("encoders whose quality can be fixed are those the service names", async () => {
  await opened();
  expect(await screen.findByLabelText("Quality of WebP")).toBeTruthy();
  expect(screen.queryByLabelText("Quality of PNG")).toBeNull();
});

test("what has no backup is said", async () => {
  await opened();
  expect(await screen.findByText(/1 file were changed before|1 file .*have no backup/)).toBeTruthy();
});
