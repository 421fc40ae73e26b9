"""Decoding a picture once, for every output and every score that needs it."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass, replace

import numpy as np
import pi_heif
from numpy.typing import NDArray
from PIL import Image, ImageFile

from .errors import Damaged, ImagingError, LeftAlone, TooLarge
from .gif.extents import Extents, extents
from .identification import Facts, identify
from .recipe import Limits

U8 = NDArray[np.uint8]

# Sizes are checked against our own limits before Pillow sees a file.
Image.MAX_IMAGE_PIXELS = None
ImageFile.LOAD_TRUNCATED_IMAGES = False


@dataclass(frozen=True, slots=True)
class Pixels:
    """Decoded pixels as stored, orientation not applied.

    ``rgb`` is (height, width, 3) uint8; ``alpha`` (height, width) uint8, straight, or None.
    """

    rgb: U8
    alpha: U8 | None = None

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.rgb.shape[1], self.rgb.shape[0]

    def as_image(self) -> Image.Image:
        """A Pillow picture of them, RGB or RGBA, that says nothing else."""
        if self.alpha is None:
            return Image.fromarray(self.rgb)
        return Image.fromarray(np.dstack([self.rgb, self.alpha]))

    def over(self, grey: int) -> U8:
        """Composited on an even grey (0 to 255), in sRGB as browsers do."""
        if self.alpha is None:
            return self.rgb
        weight = self.alpha[:, :, None].astype(np.uint16)
        blended = (self.rgb * weight + grey * (255 - weight) + 127) // 255
        return blended.astype(np.uint8)

    def same_as(self, other: Pixels) -> bool:
        """Whether both show the same: equal colour wherever it can be seen, equal alpha."""
        if self.rgb.shape != other.rgb.shape:
            return False
        if self.alpha is None and other.alpha is None:
            return bool(np.array_equal(self.rgb, other.rgb))
        mine = np.full(self.rgb.shape[:2], 255, np.uint8) if self.alpha is None else self.alpha
        theirs = np.full(self.rgb.shape[:2], 255, np.uint8) if other.alpha is None else other.alpha
        if not np.array_equal(mine, theirs):
            return False
        seen = mine > 0
        return bool(np.array_equal(self.rgb[seen], other.rgb[seen]))


def open_picture(
    data: bytes, facts: Facts, limits: Limits, at_least: tuple[int, int] | None = None
) -> Image.Image:
    """Decodes fully with Pillow. Raises :class:`TooLarge`, :class:`Damaged`, :class:`LeftAlone`.

    ``at_least``: a smaller decode will do, of this width and height or more, where the format can.
    """
    image = _decoded(data, facts, limits, at_least)
    if image.mode not in ("1", "L", "LA", "P", "PA", "RGB", "RGBA", "CMYK"):
        raise LeftAlone(f"pictures with {image.mode} samples are left alone")
    return image


def refuse_large(facts: Facts, limits: Limits) -> None:
    """Raises TooLarge for more pixels than the limits allow."""
    if facts.pixels > limits.pixels:
        raise TooLarge(
            f"the picture is {facts.width:,} x {facts.height:,} pixels, "
            f"more than the limit of {limits.pixels / 1e6:.0f} megapixels"
        )


def _decoded(
    data: bytes, facts: Facts, limits: Limits, at_least: tuple[int, int] | None = None
) -> Image.Image:
    refuse_large(facts, limits)
    if facts.format == "heif":
        pi_heif.register_heif_opener()
    if facts.format == "gif":
        _refuse_vast(extents(data), limits)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            image = Image.open(io.BytesIO(data))
            # The header of some says less than its decoder knows.
            refuse_large(replace(facts, width=image.width, height=image.height), limits)
            if at_least is not None:
                image.draft(image.mode, at_least)
            image.load()
    except ImagingError:
        raise
    except MemoryError:
        raise TooLarge("there was not enough memory to decode the picture") from None
    except Exception as error:
        reason = str(error).rstrip(".") or type(error).__name__
        raise Damaged(f"the {facts.format.upper()} does not decode to its end ({reason})") from None
    return image


def _refuse_vast(found: Extents, limits: Limits) -> None:
    """A frame may be drawn far beyond its screen, which decoders then make as large."""
    if found.pixels > limits.pixels:
        raise TooLarge(
            f"its frames reach over {found.width:,} x {found.height:,} pixels, {found.pixels / 1e6:,.0f} "
            f"megapixels in all, more than the limit of {limits.pixels / 1e6:.0f}"
        )


def to_pixels(image: Image.Image) -> Pixels:
    """The pixels of a decoded Pillow picture (1, L, LA, P, PA, RGB, RGBA)."""
    if image.has_transparency_data:
        rgba = np.asarray(image.convert("RGBA"))
        if bool((rgba[:, :, 3] == 255).all()):
            return Pixels(np.ascontiguousarray(rgba[:, :, :3]))
        return Pixels(np.ascontiguousarray(rgba[:, :, :3]), np.ascontiguousarray(rgba[:, :, 3]))
    return Pixels(np.asarray(image if image.mode == "RGB" else image.convert("RGB")))


def _eight_bits(image: Image.Image) -> Pixels:
    """Pixels of a frame; of 16 bits a sample the upper eight, to which Pillow cuts all but grey itself."""
    if not image.mode.startswith("I"):
        return to_pixels(image)
    upper = (np.asarray(image).astype(np.uint32) >> 8).astype(np.uint8)
    return Pixels(np.repeat(upper[:, :, None], 3, axis=2))


def same_frames(first: bytes, second: bytes, limits: Limits) -> bool:
    """Whether two files show the same frames, by Pillow's decoders; where nothing is seen, colour is no
    matter."""
    try:
        shown = [_decoded(data, identify(data), limits) for data in (first, second)]
        counts = [getattr(image, "n_frames", 1) for image in shown]
        if counts[0] != counts[1] or shown[0].size != shown[1].size:
            return False
        if counts[0] == 1 and shown[0].mode == shown[1].mode == "CMYK":
            return bool(np.array_equal(np.asarray(shown[0]), np.asarray(shown[1])))
        for number in range(counts[0]):
            for image in shown:
                image.seek(number)
            ours, theirs = (_eight_bits(image) for image in shown)
            if not ours.same_as(theirs):
                return False
    except (ImagingError, OSError, EOFError, ValueError, SyntaxError):
        return False
    return True


def decode(data: bytes, limits: Limits | None = None) -> Pixels:
    """Decodes any still picture known here; the first frame of an animated one.

    Raises the errors of :mod:`plumcrate.imaging.errors`.
    """
    return to_pixels(open_picture(data, identify(data), limits or Limits()))
