"""Worst places, rate against score for every encoder, and bytes against processor time for every effort, as
pictures in docs/imaging: ``python -m bench plots``."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import matplotlib as mpl
import numpy as np
from PIL import Image

from plumcrate.imaging import Effort, avif, codecs, webp
from plumcrate.imaging.jpeg import LossyEncoder
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.scoring.ssimulacra2 import Reference

from .corpus import held_out, photo, tuned
from .eye import worst
from .treat import measured

_HOME = Path(__file__).parents[1] / "docs/imaging"
_SIDE = 800
_SCORES = np.arange(55.0, 91.0, 2.5)
#: Photographs count that every encoder brings to all of these scores.
_ALL_REACH = (62.5, 82.5)
_LINES = {
    "JPEG, Pillow progressive": ("#9aa7b0", "--"),
    "JPEG, ours": ("#7a2e5d", "-"),
    "WebP, Pillow": ("#b8c4a6", "--"),
    "WebP, ours": ("#4f7a28", "-"),
    "AVIF, Pillow": ("#a9c3d6", "--"),
    "AVIF, ours": ("#1f5f8b", "-"),
}

_COSTS = ("#7a2e5d", "#4f7a28", "#1f5f8b")


def main() -> None:
    mpl.use("Agg")
    worst.draw()
    _draw_costs()
    _draw_rates()


def _draw_costs() -> None:
    """Every effort, and the plain scripts, by what they take and what they leave."""
    from matplotlib import pyplot as plt

    rows = measured()
    usual = rows[0].seconds
    figure, axis = plt.subplots(figsize=(12.8, 5.6))
    for number, kind in enumerate(("JPEG", "WebP", "AVIF")):
        bytes_of = [row.sizes[number] / 1e6 for row in rows]
        colour = _COSTS[number]
        times = [row.seconds / usual for row in rows]
        efforts = [at for at, row in enumerate(rows) if row.effort is not None]
        axis.plot(
            [times[at] for at in efforts], [bytes_of[at] for at in efforts], "-o", color=colour, label=kind
        )
        axis.plot(times[:2], bytes_of[:2], "x", color=colour, markersize=9, markeredgewidth=2)
    for at, row in enumerate(rows):
        label = str(row.effort) if row.effort else ("plain, usual", "plain, promise kept")[at]
        said = f"{label}\nworst {min(row.scores):.0f}"
        axis.annotate(
            said,
            (row.seconds / usual, 0),
            xycoords=("data", "axes fraction"),
            xytext=(0, 6 + 26 * (at % 2)),
            textcoords="offset points",
            ha="center",
            fontsize=8,
        )
        axis.axvline(row.seconds / usual, color="#cccccc", linewidth=0.8, zorder=0)
    axis.set_xscale("log", base=2)
    axis.set_xticks([1, 2, 4, 8], ["1", "2", "4", "8"])
    axis.set_ylim(bottom=0)
    axis.set_xlabel("processor time, in those of the plain script at usual qualities")
    axis.set_ylabel("MB of nine photographs at 1600 px")
    axis.set_title("Bytes against processor time: each effort (dots), plain scripts (crosses)")
    axis.grid(alpha=0.3)
    axis.legend(frameon=False)
    figure.tight_layout()
    figure.savefig(_HOME / "bytes-against-time.png", dpi=100)
    print(f"{_HOME / 'bytes-against-time.png'} is drawn")


def _draw_rates() -> None:
    from matplotlib import pyplot as plt

    figure, axes = plt.subplots(1, 2, figsize=(12.8, 5.6), sharey=True)
    for axis, (title, paths) in zip(axes, (("fitted on", tuned()), ("held out", held_out())), strict=True):
        with ProcessPoolExecutor(2) as pool:
            curves = np.array(list(pool.map(_curves, paths)))  # (photographs, encoders, scores), log2 bits
        # The same photographs all along every line, or the lines would jump where one drops out.
        among = (_ALL_REACH[0] <= _SCORES) & (_ALL_REACH[1] >= _SCORES)
        common = curves[np.isfinite(curves[:, :, among]).all(axis=(1, 2))]
        for line, (name, (colour, style)) in enumerate(_LINES.items()):
            reached = np.isfinite(common[:, line]).all(axis=0)
            mean = common[:, line].mean(axis=0)
            axis.plot(_SCORES[reached], 2 ** mean[reached], style, color=colour, label=name, linewidth=2)
        axis.set_title(f"{len(common)} of {len(paths)} photographs {title}, {_SIDE} px")
        axis.set_xlabel("SSIMULACRA2 score")
        axis.set_yscale("log", base=2)
        axis.set_yticks([0.25, 0.5, 1, 2], ["0.25", "0.5", "1", "2"])
        axis.grid(alpha=0.3)
    axes[0].set_ylabel("bits per pixel, geometric mean")
    axes[0].legend(frameon=False)
    figure.tight_layout()
    figure.savefig(_HOME / "rate-against-score.png", dpi=100)
    print(f"{_HOME / 'rate-against-score.png'} is drawn")


def _curves(path: Path) -> list[list[float]]:
    image = photo(path, _SIDE)
    image.info.clear()
    rgb = np.asarray(image)
    reference = Reference(rgb)
    encoders: list[tuple[Callable[[int], bytes], Sequence[int]]] = [
        (partial(_pillow, image, "JPEG", progressive=True, optimize=True), range(20, 99, 6)),
        (partial(LossyEncoder(rgb, grey=False, subsampled=True).encode, searched=True), range(52, 119, 6)),
        (partial(_pillow, image, "WEBP"), [*range(8, 90, 9), 92, 95, 97, 99, 100]),
        (partial(_webp, webp.planes(np.asarray(image))), [*range(55, 127, 6), 124, 126]),
        (partial(_pillow, image, "AVIF", max_threads=1), range(14, 97, 9)),
        (partial(_avif, avif.prepared(Pixels(rgb), "4:4:4")), range(8, 62, 6)),
    ]
    return [_curve(reference, encode, qualities, rgb.size / 3) for encode, qualities in encoders]


def _curve(
    reference: Reference, encode: Callable[[int], bytes], qualities: Sequence[int], pixels: float
) -> list[float]:
    points = []
    for quality in qualities:
        data = encode(quality)
        shown = np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))
        points.append((reference.score(shown), np.log2(len(data) * 8 / pixels)))
    scores, rates = zip(*sorted(points), strict=True)
    return [float(rate) for rate in np.interp(_SCORES, scores, rates, left=np.nan, right=np.nan)]


def _pillow(image: Image.Image, kind: str, quality: int, **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, quality=quality, **options)
    return out.getvalue()


def _webp(picture: webp.Planes, step: int) -> bytes:
    return codecs.encode_webp(picture, step, {}, Effort.NORMAL)


def _avif(image: Image.Image, step: int) -> bytes:
    return avif.encode(image, step, {}, Effort.NORMAL, "4:4:4", avif.Content.CALM)


if __name__ == "__main__":
    main()
