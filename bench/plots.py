"""Rate against score for every encoder, as plots in docs/imaging: ``python -m bench plots``."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import matplotlib as mpl
import numpy as np
from PIL import Image

from plumcrate.imaging import Effort, codecs, webp
from plumcrate.imaging.jpeg import LossyEncoder
from plumcrate.imaging.scoring.ssimulacra2 import Reference

from .corpus import held_out, photo, tuned

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


def main() -> None:
    mpl.use("Agg")
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
        (partial(_avif, image), range(8, 62, 6)),
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
    return codecs.encode_avif(image, step, {}, Effort.NORMAL, "4:4:4", flat=False)


if __name__ == "__main__":
    main()
