"""Peak memory of one treatment in a fresh process, by kind and size of picture."""

from __future__ import annotations

import io
import multiprocessing
import resource

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from .corpus import as_uploaded, wallpapers

_SIDES = (1500, 3000, 4500)


def main() -> None:
    table = Table(
        "picture", "megapixels", "peak", "at rest", "per megapixel", title="Memory of one treatment"
    )
    context = multiprocessing.get_context("spawn")
    for kind in ("jpeg", "png"):
        for side in _SIDES:
            with context.Pool(1) as pool:
                rest, peak, megapixels = pool.apply(_peak, (kind, side))
            table.add_row(
                kind,
                f"{megapixels:.1f}",
                f"{peak:.0f} MB",
                f"{rest:.0f} MB",
                f"{(peak - rest) / megapixels:.0f} MB",
            )
    Console().print(table)


def _peak(kind: str, side: int) -> tuple[float, float, float]:
    from plumcrate.imaging import Effort, Recipe, treat
    from plumcrate.imaging.warm import warm

    image = Image.open(wallpapers()[0]).convert("RGB").resize((side, side * 2 // 3))
    if kind == "jpeg":
        data = as_uploaded(image)
    else:
        out = io.BytesIO()
        image.save(out, "PNG", compress_level=1)
        data = out.getvalue()
    warm()
    rest = _resident()
    treat(data, Recipe(effort=Effort.QUICK))
    return rest, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, float(np.prod(image.size)) / 1e6


def _resident() -> float:
    with open("/proc/self/status", encoding="ascii") as status:
        return next(int(line.split()[1]) / 1024 for line in status if line.startswith("VmRSS"))


if __name__ == "__main__":
    main()
