// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { Compare, LossMap } from "./Compare";
import { FILE } from "../testing";

const LEFT = { name: "Before", url: "/before", facts: "1 kB" };
const RIGHT = { name: "AVIF copy", url: "/avif", facts: "400 B" };

beforeEach(() => {
  vi.spyOn(HTMLElement.prototype, "getBoundingClientRect").mockReturnValue({
    width: 800,
    height: 400,
    left: 0,
    top: 0,
  } as DOMRect);
});
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

const ground = () => screen.getByRole("group");
const picture = () => screen.getByAltText("AVIF copy");

test("the wheel zooms and the page stays where it is", () => {
  render(<Compare left={LEFT} right={RIGHT} width={640} height={480} />);
  const before = picture().style.width;
  const wheel = new WheelEvent("wheel", { deltaY: -100, bubbles: true, cancelable: true });
  fireEvent(ground(), wheel);
  expect(wheel.defaultPrevented).toBe(true);
  expect(parseFloat(picture().style.width)).toBeGreaterThan(parseFloat(before));
});

test("it is fitted at first, and shown pixel by pixel when asked", () => {
  render(<Compare left={LEFT} right={RIGHT} width={640} height={480} />);
  expect(screen.getByText("83 %")).toBeTruthy();
  fireEvent.click(screen.getByText("1:1"));
  expect(screen.getByText("100 %")).toBeTruthy();
  fireEvent.click(screen.getByText("Fit"));
  expect(screen.getByText("83 %")).toBeTruthy();
});

test("a version that cannot be fetched is said, and fetching does not go on for ever", () => {
  render(<Compare left={LEFT} right={RIGHT} width={640} height={480} />);
  expect(screen.getByText(/Fetching both versions/)).toBeTruthy();
  fireEvent.error(picture());
  expect(screen.queryByText(/Fetching both versions/)).toBeNull();
  expect(screen.getByRole("alert").textContent).toContain("AVIF copy could not be fetched");
});

test("when both are there nothing is said", () => {
  render(<Compare left={LEFT} right={RIGHT} width={640} height={480} />);
  fireEvent.load(picture());
  fireEvent.load(screen.getByAltText("Before"));
  expect(screen.queryByText(/Fetching/)).toBeNull();
  expect(screen.queryByRole("alert")).toBeNull();
});

test("it opens at the worst place when asked, in the middle and at two hundred per cent", () => {
  render(
    <Compare left={LEFT} right={RIGHT} width={640} height={480} worstPlace={FILE.worst_place} atWorst />,
  );
  expect(screen.getByText("200 %")).toBeTruthy();
  expect(picture().style.left).toBe(`${400 - 0.25 * 640 * 2}px`);
  expect(picture().style.top).toBe(`${200 - 0.5 * 480 * 2}px`);
  fireEvent.keyDown(ground(), { key: "0" });
  expect(screen.getByText("83 %")).toBeTruthy();
  fireEvent.keyDown(ground(), { key: "w" });
  expect(screen.getByText("200 %")).toBeTruthy();
});

test("without a worst place there is no way there", () => {
  render(<Compare left={LEFT} right={RIGHT} width={640} height={480} />);
  expect(screen.queryByText("Worst place")).toBeNull();
  expect(screen.queryByText("Map")).toBeNull();
});

test("keys move the divider and show the difference", () => {
  render(<Compare left={LEFT} right={RIGHT} width={640} height={480} />);
  const divider = () => screen.getByRole("slider", { name: "Divider" }).getAttribute("aria-valuenow");
  fireEvent.keyDown(ground(), { key: "ArrowRight" });
  expect(divider()).toBe("52");
  fireEvent.keyDown(ground(), { key: "ArrowLeft" });
  fireEvent.keyDown(ground(), { key: "ArrowLeft" });
  expect(divider()).toBe("48");
  fireEvent.keyDown(ground(), { key: "d" });
  expect(screen.getByRole("slider", { name: "Gain of the difference" })).toBeTruthy();
  expect(screen.queryByRole("slider", { name: "Divider" })).toBeNull();
});

test("the map shows where the score was lost, the most the strongest", () => {
  const { container } = render(<LossMap worstPlace={FILE.worst_place!} style={{}} />);
  const parts = [...container.querySelectorAll("[data-lost]")] as HTMLElement[];
  expect(parts.map((part) => part.dataset.lost)).toEqual(["0", "10", "29", "5"]);
  expect(parts[2]!.style.background).toContain("0.65");
  expect(screen.getByRole("img").getAttribute("aria-label")).toContain(
    "25 % from the left and 50 % from the top",
  );
});
