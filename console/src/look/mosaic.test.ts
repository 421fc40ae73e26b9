import { expect, test } from "vitest";
import { mosaic } from "./mosaic";

/** Weights that a seed draws, the heaviest first. */
function drawn(seed: number): number[] {
  let state = seed * 2654435761;
  const next = () => (state = (state * 1103515245 + 12345) % 2147483648) / 2147483648;
  return Array.from({ length: 1 + Math.floor(next() * 40) }, () => next() ** 3 * 1e7 + 1).sort(
    (a, b) => b - a,
  );
}

test.each(Array.from({ length: 60 }, (_, seed) => seed + 1))(
  "tiles fill the whole, each by its weight, and none lies on another (%i)",
  (seed) => {
    const weights = drawn(seed);
    const total = weights.reduce((sum, weight) => sum + weight, 0);
    const aspect = 1 + (seed % 5) / 2;
    const tiles = mosaic(weights, aspect);
    expect(tiles.length).toBe(weights.length);
    tiles.forEach((tile, index) => {
      expect(tile.width * tile.height).toBeCloseTo(weights[index]! / total, 9);
      expect(tile.left).toBeGreaterThanOrEqual(-1e-9);
      expect(tile.left + tile.width).toBeLessThanOrEqual(1 + 1e-9);
      expect(tile.top + tile.height).toBeLessThanOrEqual(1 + 1e-9);
      for (const other of tiles.slice(index + 1)) {
        const across =
          Math.min(tile.left + tile.width, other.left + other.width) - Math.max(tile.left, other.left);
        const down =
          Math.min(tile.top + tile.height, other.top + other.height) - Math.max(tile.top, other.top);
        expect(Math.min(across, down)).toBeLessThanOrEqual(1e-9);
      }
    });
  },
);

test("equal weights in a square are squares, and nothing is nothing", () => {
  for (const tile of mosaic([1, 1, 1, 1], 1)) expect(tile.width / tile.height).toBeCloseTo(1, 9);
  expect(mosaic([], 2)).toEqual([]);
  expect(mosaic([0, 0], 2)).toEqual([]);
});
