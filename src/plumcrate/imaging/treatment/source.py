"""One picture as it is read under a recipe, with everything that is computed once and shared."""

from __future__ import annotations

import io
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from PIL import Image, ImageCms

from .. import codecs, geometry
from ..avif import Content
from ..errors import Damaged, LeftAlone, MoreDataNeeded
from ..identification import Facts, identify
from ..jpeg.luminance import shifted_bands
from ..jpeg.transform import half_chroma, in_rgb
from ..kinds import Kind
from ..metadata import exif, xmp
from ..pixels import Pixels, open_picture, to_pixels
from ..png import PngError, read_png
from ..png.picture import PngFile
from ..priors import Features, detail, features, is_flat
from ..recipe import Level, Limits, Recipe
from ..scoring import Judge
from ..shaping import shaped

#: What rounding alone does to values on the way to another profile and back.
_MEAN_ROUNDING, _MOST_ROUNDING = 0.6, 4
#: A busy photograph has so large a part of luma's coefficients above 8.
_BUSY = 0.1
#: Formats of which we write no exact form of pixels: what is shaped at the exact level is made at the next.
_NEVER_EXACT = ("jpeg", "avif")
_RELATIVE = ImageCms.Intent.RELATIVE_COLORIMETRIC


class Source:
    """Reads a file once. Raises the errors of :mod:`~plumcrate.imaging.errors`."""

    def __init__(self, data: bytes, recipe: Recipe, limits: Limits) -> None:
        self.data = data
        self.recipe = recipe
        self.limits = limits
        self.facts: Facts = identified(data)
        if self.facts.format not in ("jpeg", "png", "gif", "webp", "avif"):
            raise LeftAlone(f"{self.facts.format.upper()} files are left alone")
        if self.facts.format == "jpeg" and self.facts.bits > 8:
            raise LeftAlone(f"JPEGs with {self.facts.bits} bits per sample are left alone")
        if self.facts.arithmetic:
            raise LeftAlone("JPEGs with arithmetic coding, which browsers do not show, are left alone")
        self.png: PngFile | None = None
        #: Whether a shaped picture was a JPEG whose metadata can go along.
        self.of_jpeg = False
        image = self._opened()
        if image.size != (self.facts.width, self.facts.height):
            raise Damaged("the header and the decoded picture disagree about the size")
        #: As Pillow has it, and what the file says beside its picture.
        self.mode, self.info = image.mode, image.info
        self.printing = self.mode == "CMYK"
        self.pixels = to_pixels(on_screen(image) if self.printing else image)
        #: Whether the pixels are no longer those of the file.
        self.resized = False
        if recipe.sharpens and (self.facts.animated or self.facts.format == "gif"):
            # What moves, and what has no room for new colours, is not sharpened.
            self.recipe = recipe = replace(recipe, sharpen_all=False)
        if recipe.shapes:
            self._shape()
        else:
            self._fit()

    def _opened(self) -> Image.Image:
        if self.facts.format != "png":
            return open_picture(self.data, self.facts, self.limits)
        deep = self.facts.bits > 8
        image = None if deep else open_picture(self.data, self.facts, self.limits)
        try:
            self.png = read_png(self.data, self.limits.pixels)
        except PngError as error:
            raise (Damaged if deep else LeftAlone)(str(error)) from None
        if image is not None:
            return image
        # Pillow would cut 16 bits down in its own way; what is shown and scored is rounded here.
        rounded = self.png.picture.shown()
        opaque = bool((rounded[..., 3] == 255).all())
        return Image.fromarray(np.ascontiguousarray(rounded[..., :3]) if opaque else rounded)

    def _fit(self) -> None:
        """Makes the picture smaller when the recipe says so; from then on that is the picture."""
        largest = self.recipe.largest
        if self.facts.orientation >= 5:
            largest = (largest[1], largest[0])
        size = geometry.fitted(*self.pixels.size, largest)
        if size == self.pixels.size or self.facts.animated or self.printing:
            return
        small = geometry.sharpened(geometry.downscale(self.pixels, *size), self.recipe.sharpening)
        profile = self.info.get("icc_profile")
        self.pixels, self.resized = small, True
        self.facts = replace(self.facts, width=size[0], height=size[1])
        self._is_of(small, self.mode == "L")
        self.info = {"icc_profile": profile} if profile else {}

    def _shape(self) -> None:
        """Makes the picture that the recipe shapes of it, upright; from then on that is the picture."""
        facts = self.facts
        if facts.animated:
            raise LeftAlone("moving pictures are not cut, watermarked or touched up")
        if facts.format == "gif" and self.recipe.size is None:
            raise LeftAlone("GIFs are not watermarked or touched up")
        pixels = shaped(self._stood_up(), self.recipe)
        kind = (self.recipe.size.format if self.recipe.size is not None else None) or facts.format
        if kind == "gif":
            kind = "png"
        if kind == "jpeg" and pixels.alpha is not None:
            pixels = Pixels(pixels.over(255))
        profile = None if self.printing else self.info.get("icc_profile")
        grey = pixels.alpha is None and bool((pixels.rgb == pixels.rgb[..., :1]).all())
        # A profile fits one kind of samples only.
        if facts.colour == "grey" and not grey:
            profile = None
        grey = grey and (facts.colour == "grey" or profile is None)
        kept: dict[str | tuple[int, int], Any] = {
            name: self.info[name] for name in ("exif", "xmp") if self.info.get(name)
        }
        self.pixels, self.resized = pixels, True
        self._is_of(pixels, grey)
        if profile:
            kept["icc_profile"] = profile
        self.info = kept
        self.of_jpeg, self.printing = facts.format == "jpeg" and not self.printing, False
        width, height = pixels.size
        self.facts = replace(
            facts,
            format=kind,
            width=width,
            height=height,
            orientation=1,
            bits=8,
            alpha=pixels.alpha is not None,
            colour="grey" if grey else "rgb",
        )
        if kind in _NEVER_EXACT and self.recipe.target is None:
            self.recipe = replace(self.recipe, level=Level.GALLERY)

    def _stood_up(self) -> Pixels:
        method = _TURNS.get(self.facts.orientation)
        if method is None or self.facts.format == "avif":
            return self.pixels
        return to_pixels(self.pixels.as_image().transpose(method))

    def _is_of(self, pixels: Pixels, grey: bool) -> None:
        self.mode = "L" if grey else "RGB" if pixels.alpha is None else "RGBA"

    # -- what is shared ----------------------------------------------------------------------

    @cached_property
    def judge(self) -> Judge:
        return Judge(self.pixels)

    @cached_property
    def half_chroma_lacks(self) -> float:
        """Points that the score loses by halving chroma alone, with luma moved for it: no encoder that halves
        chroma can do better."""
        rgb = self.pixels.rgb
        shown = np.empty_like(rgb)
        for band in shifted_bands(rgb, half_chroma(rgb)):
            shown[band.rows] = in_rgb(band.luma + band.shift, *band.chroma)
        return 100.0 - self.judge.score(Pixels(shown, self.pixels.alpha))

    @cached_property
    def features(self) -> Features:
        return features(self.pixels.over(128), self.half_chroma_lacks)

    @cached_property
    def content(self) -> Content:
        """What the picture is to an encoder."""
        if is_flat(self.features):
            return Content.FLAT
        return Content.BUSY if detail(self.features) >= _BUSY else Content.CALM

    @cached_property
    def upright_pixels(self) -> Pixels:
        """The picture with its orientation applied, in sRGB where that loses nothing: for copies."""
        pixels = self.in_srgb or self.pixels
        if self.facts.orientation == 1 or self.facts.format == "avif":
            return pixels
        return to_pixels(pixels.as_image().transpose(_TURNS[self.facts.orientation]))

    @cached_property
    def upright_judge(self) -> Judge:
        return Judge(self.upright_pixels) if self.upright_pixels is not self.pixels else self.judge

    @cached_property
    def in_srgb(self) -> Pixels | None:
        """The picture in sRGB when nothing is lost by the conversion, so that copies need no profile.

        None when there is no other profile, or when colours would be clipped: the way back must lead to
        nearly the same values.
        """
        profile = self.info.get("icc_profile")
        for_copies = self.facts.format not in ("webp", "avif") and self.mode in ("RGB", "RGBA")
        if not profile or not for_copies or _is_srgb(profile):
            return None
        colours = Image.fromarray(self.pixels.rgb)
        try:
            theirs, srgb = ImageCms.ImageCmsProfile(io.BytesIO(profile)), ImageCms.createProfile("sRGB")
            ours = ImageCms.profileToProfile(colours, theirs, srgb, _RELATIVE, "RGB")
            back = ImageCms.profileToProfile(ours, srgb, theirs, _RELATIVE, "RGB") if ours else None
        except (ImageCms.PyCMSError, OSError):
            return None
        if ours is None or back is None:
            return None
        apart = np.abs(np.asarray(back).astype(np.int16) - self.pixels.rgb)
        if apart.mean() > _MEAN_ROUNDING or apart.max() > _MOST_ROUNDING:
            return None
        return Pixels(np.asarray(ours), self.pixels.alpha)

    @cached_property
    def file_extras(self) -> codecs.Extras:
        """What a WebP or AVIF file that is written again keeps: its profile, and metadata by kind."""
        out: codecs.Extras = {}
        info, keep = self.info, self.recipe.metadata
        if info.get("icc_profile"):
            out["icc_profile"] = info["icc_profile"]
        block = info.get("exif") or b""
        tiff = block[6:] if block.startswith(b"Exif\0\0") else block
        tiff = exif.kept(tiff, keep, upright=self.recipe.shapes) if tiff else b""
        packet = xmp.kept(info["xmp"], keep) if info.get("xmp") else b""
        return out | {name: data for name, data in (("exif", tiff), ("xmp", packet)) if data}

    @cached_property
    def copy_extras(self) -> codecs.Extras:
        """What goes into copies with the picture: its profile where it matters, and whose it is."""
        out: codecs.Extras = {}
        profile = self.info.get("icc_profile")
        # A grey profile does not fit the three channels that copies store; printing colours were converted.
        if (
            profile
            and not (self.printing or self.facts.colour == "grey" or _is_srgb(profile))
            and not self.in_srgb
        ):
            out["icc_profile"] = profile
        block = self.info.get("exif")
        if block and Kind.RIGHTS in self.recipe.metadata:
            tiff = block[6:] if block.startswith(b"Exif\0\0") else block
            rights = exif.kept(tiff, frozenset({Kind.RIGHTS}), upright=True)
            if rights:
                out["exif"] = rights
        return out

    @property
    def upright_size(self) -> tuple[int, int]:
        """Width and height as shown, at the new size when there is one."""
        width, height = self.pixels.size
        return (height, width) if self.facts.orientation >= 5 else (width, height)


def on_screen(image: Image.Image) -> Image.Image:
    """Printing colours as screens show them: by their profile, or plainly without one."""
    profile = image.info.get("icc_profile")
    if profile:
        try:
            source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
            shown = ImageCms.profileToProfile(image, source, ImageCms.createProfile("sRGB"), outputMode="RGB")
            assert shown is not None
            return shown
        except (ImageCms.PyCMSError, OSError):
            pass  # a profile that does not work is no profile
    return image.convert("RGB")


def identified(data: bytes) -> Facts:
    """What a whole file is. Raises NotAPicture and Damaged."""
    try:
        return identify(data)
    except MoreDataNeeded:
        raise Damaged("the file ends before its picture does") from None


_TURNS = {
    2: Image.Transpose.FLIP_LEFT_RIGHT,
    3: Image.Transpose.ROTATE_180,
    4: Image.Transpose.FLIP_TOP_BOTTOM,
    5: Image.Transpose.TRANSPOSE,
    6: Image.Transpose.ROTATE_270,
    7: Image.Transpose.TRANSVERSE,
    8: Image.Transpose.ROTATE_90,
}


def _is_srgb(profile: bytes) -> bool:
    """Whether a profile says what browsers assume without one."""
    try:
        opened = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        return "srgb" in ImageCms.getProfileDescription(opened).lower()
    except (ImageCms.PyCMSError, OSError):
        return False
