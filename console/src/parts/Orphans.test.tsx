// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Problem, type Library } from "../api/client";
import { Orphans } from "./Orphans";

const hooks = vi.hoisted(() => ({ useOrphans: vi.fn(), useRescue: vi.fn() }));
vi.mock("../api/queries", () => hooks);

const library = { slug: "ledge" } as Library;
const rows = [{ id: 7, path: "2025/<b>lamp</b>.jpg", size: 412_000, created_at: "2026-11-01T10:00:00Z" }];
const rescue = { mutate: vi.fn(), isPending: false, isError: false };

beforeEach(() => {
  rescue.mutate.mockReset();
  hooks.useRescue.mockReturnValue(rescue);
});
afterEach(cleanup);

const given = (state: object) =>
  hooks.useOrphans.mockReturnValue({ isPending: false, isError: false, ...state });

it("shows the shape of what comes while it loads", () => {
  given({ isPending: true });
  const { container } = render(<Orphans library={library} />);
  expect(container.querySelector(".h-24")).not.toBeNull();
});

it("says what would be listed when there is none", () => {
  given({ data: { pages: [{ rows: [], total: 0 }] } });
  render(<Orphans library={library} />);
  expect(screen.getByText(/its original is kept and listed here/)).toBeTruthy();
});

it("lets an error be tried again", () => {
  const refetch = vi.fn();
  given({
    isError: true,
    error: new Problem("The database does not answer", "try again", 503, "database"),
    refetch,
  });
  render(<Orphans library={library} />);
  fireEvent.click(screen.getByText("Try again"));
  expect(refetch).toHaveBeenCalledOnce();
});

it("puts one back under the name that is given, and shows names as text", () => {
  given({ data: { pages: [{ rows, total: 21 }] } });
  render(<Orphans library={library} />);
  expect(screen.getByText("2025/<b>lamp</b>.jpg")).toBeTruthy();
  expect(screen.getByText(/21 originals/)).toBeTruthy();
  expect(screen.getByText("Save").getAttribute("href")).toBe("/api/v1/libraries/ledge/orphans/7/content");
  fireEvent.click(screen.getByText("Put back …"));
  const path = screen.getByLabelText("Its path in the library");
  fireEvent.change(path, { target: { value: " " } });
  expect((screen.getByText("Put it back").closest("button") as HTMLButtonElement).disabled).toBe(true);
  fireEvent.change(path, { target: { value: "lamp.jpg" } });
  fireEvent.click(screen.getByText("Put it back"));
  expect(rescue.mutate.mock.calls[0]?.[0]).toEqual({ id: 7, path: "lamp.jpg" });
});

it("fetches more while there are more", () => {
  const fetchNextPage = vi.fn();
  const another = [{ ...rows[0]!, id: 8, path: "2025/kite.jpg" }];
  const pages = [
    { rows, total: 2 },
    { rows: another, total: 2 },
  ];
  given({ data: { pages: pages.slice(0, 1) }, hasNextPage: true, fetchNextPage });
  const { rerender } = render(<Orphans library={library} />);
  fireEvent.click(screen.getByText("Show more"));
  expect(fetchNextPage).toHaveBeenCalledOnce();
  given({ data: { pages }, hasNextPage: false });
  rerender(<Orphans library={library} />);
  expect(screen.getByText("2025/kite.jpg")).toBeTruthy();
  expect(screen.queryByText("Show more")).toBeNull();
});
