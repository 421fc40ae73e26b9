// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Recipe, RecipeSettings } from "../api/client";
import { RECIPE } from "../testing";
import { differences, merged, RecipeMerge } from "./RecipeMerge";

afterEach(cleanup);

const BASE = RECIPE.settings;
const MINE: RecipeSettings = { ...BASE, level: "lean", copies: ["webp"] };
const THEIRS: RecipeSettings = {
  ...BASE,
  level: "gallery",
  save_data: true,
  clear_hidden: BASE.clear_hidden,
};

test("each difference knows who made it", () => {
  expect(differences(BASE, MINE, THEIRS).map(({ name, by }) => [name, by])).toEqual([
    ["level", "both"],
    ["copies", "mine"],
    ["save_data", "theirs"],
  ]);
  expect(differences(BASE, MINE, MINE)).toEqual([]);
});

test("what one changed is taken from them, and of what both changed what was chosen", () => {
  expect(merged(BASE, MINE, THEIRS, {})).toEqual({
    ...BASE,
    level: "lean",
    copies: ["webp"],
    save_data: true,
  });
  expect(merged(BASE, MINE, THEIRS, { level: "theirs" }).level).toBe("gallery");
});

test("a person sees both, and chooses", () => {
  const take = vi.fn();
  const base = { ...RECIPE, version: 2 } as Recipe;
  const theirs = { ...RECIPE, settings: THEIRS, version: 3, by: "Ann" } as Recipe;
  render(<RecipeMerge base={base} mine={MINE} theirs={theirs} onTake={take} />);
  expect(screen.getByText(/Ann saved version 3 meanwhile/)).toBeTruthy();
  expect(screen.getByText("you changed it to webp")).toBeTruthy();
  expect(screen.getByText("Ann changed it to on")).toBeTruthy();
  fireEvent.click(screen.getByLabelText("Ann: Gallery"));
  fireEvent.click(screen.getByText("Merge as chosen"));
  expect(take.mock.calls[0]?.[0]).toEqual({ ...BASE, level: "gallery", copies: ["webp"], save_data: true });
  fireEvent.click(screen.getByText("Take theirs"));
  expect(take.mock.calls[1]?.[0]).toEqual(THEIRS);
  fireEvent.click(screen.getByText("Keep mine"));
  expect(take.mock.calls[2]?.[0]).toEqual(MINE);
});
