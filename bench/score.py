"""The score against the independent implementation on PyPI: agreement and speed, in the same run."""

from __future__ import annotations

import io
import time

import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table
from ssimulacra2 import compute_ssimulacra2

from plumcrate.imaging.scoring.ssimulacra2 import Reference

from .corpus import photo, wallpapers

_QUALITIES = (15, 30, 50, 70, 85, 95)


def main() -> None:
    off: list[float] = []
    oracle_seconds = oracle_megapixels = 0.0
    for path in wallpapers()[:25]:
        image = photo(path, 800)
        reference = Reference(np.asarray(image))
        source = io.BytesIO()
        image.save(source, "PNG")
        for quality in _QUALITIES:
            out = io.BytesIO()
            image.save(out, "JPEG", quality=quality)
            began = time.perf_counter()
            oracle = compute_ssimulacra2(io.BytesIO(source.getvalue()), io.BytesIO(out.getvalue()))
            oracle_seconds += time.perf_counter() - began
            oracle_megapixels += image.width * image.height / 1e6
            ours = reference.score(np.asarray(Image.open(io.BytesIO(out.getvalue()))))
            off.append(abs(ours - oracle))
    large = np.asarray(photo(wallpapers()[0], 4000))
    megapixels = large.shape[0] * large.shape[1] / 1e6
    reference = Reference(large)
    cached = max(_rate(lambda: reference.score(large), megapixels) for _ in range(5))
    first = max(_rate(lambda: Reference(large), megapixels) for _ in range(3))
    oracle_rate = oracle_megapixels / oracle_seconds
    table = Table("what", "measured", title=f"The score, {len(off)} pairs at 800 pixels")
    table.add_row(
        "mean and largest difference from the oracle", f"{np.mean(off):.4f}, {np.max(off):.4f} points"
    )
    table.add_row("candidate scored, reference kept", f"{cached:.0f} MP/s")
    table.add_row("reference made ready", f"{first:.0f} MP/s")
    table.add_row("oracle", f"{oracle_rate:.2f} MP/s, ours {cached / oracle_rate:.0f} times as fast")
    Console().print(table)


def _rate(act: object, megapixels: float) -> float:
    began = time.process_time()
    act()  # type: ignore[operator]
    return megapixels / (time.process_time() - began)


if __name__ == "__main__":
    main()
