// @vitest-environment jsdom
import { render } from "@testing-library/react";
import { expect, it } from "vitest";
import { Slat } from "./Slat";

it("draws outline, filling and notch in proportion, and says them", () => {
  const { container } = render(<Slat before={500} now={250} lightest={100} scale={1000} format="png" />);
  const bar = container.querySelector("[role=img]") as HTMLElement;
  expect(bar.getAttribute("aria-label")).toBe("500 B before, 250 B now, −50 %");
  expect(bar.style.width).toBe("50%");
  const [filled, notch] = [...bar.children] as [HTMLElement, HTMLElement];
  expect(filled.style.width).toBe("50%");
  expect(filled.className).toContain("hatch-png");
  expect(notch.style.left).toBe("20%");
});

it("draws nothing inside a group that weighs nothing, and no notch where nothing is lighter", () => {
  const { container } = render(<Slat before={0} now={0} lightest={0} />);
  const bar = container.querySelector("[role=img]") as HTMLElement;
  expect(bar.style.width).toBe("0%");
  expect(bar.children).toHaveLength(1);
});
