// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { useState } from "react";
import { Route, Routes, useLocation } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import type { CopyFormat } from "../api/client";
import { Problem } from "../api/client";
import type { LevelName } from "../look/words";
import { LIBRARY, serve, show } from "../testing";
import { LevelChoice } from "./LevelChoice";
import { MetadataChoice, type MetadataKind } from "./MetadataChoice";
import { Palette } from "./Palette";
import { Tabs } from "./Tabs";
import { ErrorNote } from "./ui";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

function Levels({ heard }: { heard: (level: LevelName, copies: CopyFormat[]) => void }) {
  const [level, setLevel] = useState<LevelName>("everyday");
  const [copies, setCopies] = useState<CopyFormat[]>(["webp"]);
  heard(level, copies);
  return <LevelChoice level={level} onLevel={setLevel} copies={copies} onCopies={setCopies} />;
}

test("a level is chosen, and the copies that the service knows", async () => {
  serve({});
  const heard = vi.fn();
  show(<Levels heard={heard} />);
  const copies = await screen.findByRole("group", { name: "Copies beside each file" });
  expect((await within(copies).findAllByRole("checkbox")).length).toBe(2);
  expect(
    (screen.getByRole("radio", { name: /Everyday/ }) as HTMLButtonElement).getAttribute("aria-checked"),
  ).toBe("true");
  fireEvent.click(screen.getByRole("radio", { name: /Gallery/ }));
  expect(heard).toHaveBeenLastCalledWith("gallery", ["webp"]);
  fireEvent.click(within(copies).getByRole("checkbox", { name: "AVIF" }));
  expect(heard).toHaveBeenLastCalledWith("gallery", ["webp", "avif"]);
  fireEvent.click(within(copies).getByRole("checkbox", { name: "WebP" }));
  expect(heard).toHaveBeenLastCalledWith("gallery", ["avif"]);
});

test("kinds of metadata keep their order, whichever was ticked first", () => {
  const changed = vi.fn<(kept: MetadataKind[]) => void>();
  show(<MetadataChoice kept={["camera"]} onChange={changed} />);
  expect(screen.getByRole("checkbox", { name: /Place/ })).toHaveProperty("checked", false);
  fireEvent.click(screen.getByRole("checkbox", { name: /Rights and credit/ }));
  expect(changed).toHaveBeenLastCalledWith(["rights", "camera"]);
  fireEvent.click(screen.getByRole("checkbox", { name: /Camera/ }));
  expect(changed).toHaveBeenLastCalledWith([]);
});

test("tabs lead to the pages beside this one, and say which it is", () => {
  show(<Tabs library={LIBRARY} under="Treat" />, "/l/ledge/treat/recipe");
  const links = within(screen.getByRole("navigation", { name: "Treat" })).getAllByRole("link");
  expect(links.map((link) => [link.textContent, link.getAttribute("href")])).toEqual([
    ["Runs", "/l/ledge/treat"],
    ["Recipe", "/l/ledge/treat/recipe"],
    ["Sizes", "/l/ledge/treat/sizes"],
    ["Watermarks", "/l/ledge/treat/watermarks"],
    ["Automation", "/l/ledge/treat/automation"],
    ["Allowance", "/l/ledge/treat/allowance"],
  ]);
  expect(links.map((link) => link.getAttribute("aria-current"))).toEqual([
    null,
    "page",
    null,
    null,
    null,
    null,
  ]);
});

test("an error says what happened and offers another try", () => {
  const again = vi.fn();
  const problem = new Problem("Files cannot be reached", "is the volume mounted?", 503, "storage");
  show(<ErrorNote error={problem} again={again} />);
  expect(screen.getByRole("alert").textContent).toContain("Files cannot be reached");
  expect(screen.getByRole("alert").textContent).toContain("is the volume mounted?");
  fireEvent.click(screen.getByRole("button", { name: "Try again" }));
  expect(again).toHaveBeenCalledOnce();
});

function Where() {
  const place = useLocation();
  return <output>{place.pathname + place.search}</output>;
}

function palette({ library }: { library: typeof LIBRARY | undefined } = { library: LIBRARY }) {
  serve({ "GET /libraries": [LIBRARY, { ...LIBRARY, slug: "other", name: "Other shore" }] });
  const closed = vi.fn();
  show(
    <Routes>
      <Route
        path="*"
        element={
          <>
            <Where />
            <Palette open onClose={closed} library={library} />
          </>
        }
      />
    </Routes>,
    "/l/ledge",
  );
  return { closed, box: screen.getByRole("combobox") };
}

test("a few letters find a page, and the keyboard goes there", async () => {
  const { closed, box } = palette();
  fireEvent.change(box, { target: { value: "worst" } });
  const options = screen.getAllByRole("option");
  expect(options.map((option) => option.textContent)).toEqual([
    "Review: worst place first",
    "Find pictures called “worst”",
  ]);
  fireEvent.keyDown(box, { key: "Enter" });
  expect(closed).toHaveBeenCalledOnce();
  expect(document.querySelector("output")!.textContent).toBe("/l/ledge/review?sort=worst");
});

test("arrows go round, and a name is searched for", async () => {
  const { box } = palette();
  fireEvent.change(box, { target: { value: "worst" } });
  fireEvent.keyDown(box, { key: "ArrowUp" });
  expect(screen.getAllByRole("option")[1]!.getAttribute("aria-selected")).toBe("true");
  fireEvent.keyDown(box, { key: "Enter" });
  expect(document.querySelector("output")!.textContent).toBe("/l/ledge/review?search=worst");
});

test("other libraries are found, also where there is none", async () => {
  const { box } = palette({ library: undefined });
  expect(await screen.findByText("Library: Other shore")).toBeTruthy();
  fireEvent.change(box, { target: { value: "other shore" } });
  expect(screen.getAllByRole("option").map((option) => option.textContent)).toEqual(["Library: Other shore"]);
});
