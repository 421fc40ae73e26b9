import { describe, expect, it } from "vitest";
import { bytes, duration, many, points, saved } from "./words";

describe("figures", () => {
  it("says bytes in decimal units with at most three significant digits", () => {
    expect(
      [0, 999, 1000, 9_994, 9_996, 99_960, 999_400, 999_500, 3_250_000, 4.2e12].map((count) => bytes(count)),
    ).toEqual([
      "0 B",
      "999 B",
      "1.00 kB",
      "9.99 kB",
      "10.0 kB",
      "100 kB",
      "999 kB",
      "1.00 MB",
      "3.25 MB",
      "4.20 TB",
    ]);
    expect(bytes(null)).toBe("–");
  });

  it("says savings as a share of what it was, and growth as growth", () => {
    expect(saved(1000, 660)).toBe("−34 %");
    expect(saved(1000, 995)).toBe("−0.5 %");
    expect(saved(1000, 1200)).toBe("+20 %");
    expect(saved(1000, 1000)).toBe("0 %");
    expect(saved(0, 0)).toBe("–");
  });

  it("says time, counts and points", () => {
    expect([5, 65, 3700].map(duration)).toEqual(["5 s", "1 min 5 s", "1 h 1 min"]);
    expect(many(1, "copy", "copies")).toBe("1 copy");
    expect(many(1200, "copy", "copies")).toBe("1,200 copies");
    expect(points(79.96)).toBe("80.0");
  });
});
