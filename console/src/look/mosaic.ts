/**
 * Rectangles whose areas are as given, as near to squares as they get: squarified treemaps
 * (Bruls, Huizing and van Wijk, Proceedings of VisSym 2000).
 */

export interface Tile {
  /** In parts of the whole's width and height. */
  left: number;
  top: number;
  width: number;
  height: number;
}

/** A tile for each weight, in their order; the heaviest should come first. `aspect` is width to height of the whole. */
export function mosaic(weights: number[], aspect: number): Tile[] {
  const total = weights.reduce((sum, weight) => sum + weight, 0);
  if (total <= 0) return [];
  const areas = weights.map((weight) => (weight / total) * aspect);
  const tiles: Tile[] = [];
  let free = { left: 0, top: 0, width: aspect, height: 1 };
  let row: number[] = [];
  const place = () => {
    const sum = row.reduce((all, area) => all + area, 0);
    const upright = free.width >= free.height;
    const depth = sum / (upright ? free.height : free.width);
    let along = 0;
    for (const area of row) {
      const length = depth > 0 ? area / depth : 0;
      tiles.push(
        upright
          ? { left: free.left, top: free.top + along, width: depth, height: length }
          : { left: free.left + along, top: free.top, width: length, height: depth },
      );
      along += length;
    }
    free = upright
      ? { ...free, left: free.left + depth, width: free.width - depth }
      : { ...free, top: free.top + depth, height: free.height - depth };
    row = [];
  };
  for (const area of areas) {
    const side = Math.min(free.width, free.height);
    if (row.length > 0 && worst([...row, area], side) > worst(row, side)) place();
    row.push(area);
  }
  place();
  return tiles.map(({ left, top, width, height }) => ({
    left: left / aspect,
    top,
    width: width / aspect,
    height,
  }));
}

/** The proportions of the least square of a row's tiles, along a side. */
function worst(row: number[], side: number): number {
  const sum = row.reduce((all, area) => all + area, 0);
  const most = Math.max(...row);
  const least = Math.min(...row);
  return Math.max((side * side * most) / (sum * sum), (sum * sum) / (side * side * least));
}
