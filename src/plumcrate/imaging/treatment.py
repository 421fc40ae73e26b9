"""The decision: one file in, the lightest acceptable file and copies out, each with its reason.

A picture is decoded once; every candidate is decoded again and scored, or compared pixel by pixel,
before it can be chosen. Nothing here writes: the caller does with the bytes what it will.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
from PIL import Image, ImageOps

from . import codecs
from .aim import Knob, Landing, aim
from .errors import Damaged, ImagingError, LeftAlone
from .identification import Facts, identify
from .jpeg import JpegError, LossyEncoder, recompress
from .pixels import Pixels, decode, open_picture, to_pixels
from .priors import Features, features, predicted
from .recipe import TOLERANCE, Level, Recipe
from .scoring import Judge

Verdict = Literal["chosen", "not-smaller", "too-little-gain", "out-of-reach", "not-possible"]

#: The verdicts in plain words, for people.
VERDICTS: dict[Verdict, str] = {
    "chosen": "smaller, and as good as promised",
    "not-smaller": "would not be smaller, so nothing was written",
    "too-little-gain": "would save too little to be worth a change",
    "out-of-reach": "cannot reach the promised quality in this format",
    "not-possible": "cannot be made from this picture at this level",
}


@dataclass(frozen=True, slots=True)
class Output:
    """One file that was considered.

    ``data`` is None unless the verdict is ``chosen``. ``size`` is in bytes, 0 when nothing was
    encoded; ``score`` is SSIMULACRA2 against the source, 100.0 when the pixels are identical.
    """

    format: str
    verdict: Verdict
    data: bytes | None = None
    size: int = 0
    score: float | None = None
    how: str = ""
    encodes: int = 0

    @property
    def reason(self) -> str:
        return VERDICTS[self.verdict]


@dataclass(frozen=True, slots=True)
class Treatment:
    """The outcome for one file: what replaces it, if anything, and its copies."""

    facts: Facts
    size: int
    main: Output
    copies: tuple[Output, ...]

    @property
    def size_after(self) -> int:
        """Bytes of the file itself afterwards."""
        return self.main.size if self.main.verdict == "chosen" else self.size


def treat(data: bytes, recipe: Recipe) -> Treatment:
    """Treats one file: the bytes that may replace it and its copies.

    Raises :class:`~.errors.NotAPicture`, :class:`~.errors.Damaged`, :class:`~.errors.TooLarge`
    or :class:`~.errors.LeftAlone`; no other error.
    """
    try:
        return _Case(data, recipe).treat()
    except ImagingError:
        raise
    except MemoryError:
        raise LeftAlone("there was not enough memory to treat the picture") from None


#: AVIF is probed at this speed; at the recipe's slower one the same score needs so much less quality.
_PROBE_SPEED, _PROBE_OFFSET = 8, 1
_NOTHING = np.zeros((0, 0, 3), np.uint8)


class _Case:
    """One picture under one recipe, with everything that is computed once and shared."""

    def __init__(self, data: bytes, recipe: Recipe) -> None:
        self.data = data
        self.recipe = recipe
        self.facts = identify(data)
        self._decline_what_is_left_alone()
        self.image = open_picture(data, self.facts, recipe.limits)
        if self.image.size != (self.facts.width, self.facts.height):
            raise Damaged("the header and the decoded picture disagree about the size")
        self.pixels = to_pixels(self.image) if self.image.mode != "CMYK" else Pixels(_NOTHING)
        self.jpeg_step: float | None = None  # where JPEG reached the target, for the next aims

    def _decline_what_is_left_alone(self) -> None:
        facts = self.facts
        if facts.format not in ("jpeg", "png", "gif", "webp", "avif"):
            raise LeftAlone(f"{facts.format.upper()} files are left alone")
        if facts.animated:
            raise LeftAlone(f"animated {facts.format.upper()} pictures are left alone")
        if facts.bits > 8:
            raise LeftAlone(f"pictures with {facts.bits} bits per channel are left alone")

    @cached_property
    def judge(self) -> Judge:
        return Judge(self.pixels)

    @cached_property
    def features(self) -> Features:
        return features(self.pixels.over(128))

    def _first(self, encoder: str, knob: Knob) -> int | None:
        """Where to begin aiming; None when nothing better is known than the knob's own prior."""
        assert self.recipe.target is not None
        known = None if encoder == "jpeg" else self.jpeg_step
        place = predicted(encoder, self.recipe.target, self.features, known)
        return None if place is None else knob.at(place)

    @cached_property
    def upright(self) -> Image.Image:
        """The picture with its orientation applied, for copies."""
        image = ImageOps.exif_transpose(self.image) if self.facts.orientation != 1 else self.image
        assert image is not None
        if image.mode in ("1", "P", "PA", "LA", "L"):
            profile = image.info.get("icc_profile")
            image = image.convert("RGBA" if self.pixels.alpha is not None else "RGB")
            # A grey profile does not fit the three channels that the copies store.
            if profile and self.facts.colour == "grey":
                image.info.pop("icc_profile", None)
        elif image.mode == "RGBA" and self.pixels.alpha is None:
            image = image.convert("RGB")
        return image

    @cached_property
    def upright_pixels(self) -> Pixels:
        return to_pixels(self.upright) if self.facts.orientation != 1 else self.pixels

    @cached_property
    def upright_judge(self) -> Judge:
        return Judge(self.upright_pixels) if self.facts.orientation != 1 else self.judge

    def treat(self) -> Treatment:
        main = self._main()
        after = main.size if main.verdict == "chosen" else len(self.data)
        copies = []
        if self.image.mode == "CMYK":
            # Printing colours need their profile to be shown right; copies of them are not made.
            wanted = [name for name, on in (("webp", self.recipe.webp), ("avif", self.recipe.avif)) if on]
            return Treatment(
                self.facts, len(self.data), main, tuple(Output(n, "not-possible") for n in wanted)
            )
        if self.recipe.webp and self.facts.format not in ("webp", "avif"):
            copies.append(self._webp_copy(after))
        if self.recipe.avif and self.facts.format != "avif":
            copies.append(self._avif_copy(after))
        return Treatment(self.facts, len(self.data), main, tuple(copies))

    # -- the file itself ---------------------------------------------------------------------

    def _main(self) -> Output:
        if self.facts.format == "jpeg":
            return self._jpeg()
        if self.facts.format == "png":
            return self._png()
        return Output(self.facts.format, "not-possible")

    def _jpeg(self) -> Output:
        exact = self._exact_jpeg()
        if self.recipe.target is None or self.image.mode == "CMYK":
            return exact
        lossy = self._checked_orientation(self._lossy_jpeg())
        # A change of pixels must pay: over the file as it is, and over the exact result.
        worth = lossy.size <= (exact.size if exact.data else len(self.data)) * (1 - self.recipe.least_gain)
        if lossy.data is not None and worth:
            return lossy
        if exact.data is not None:
            return replace(exact, encodes=lossy.encodes)
        return lossy if lossy.data is None else replace(lossy, verdict="too-little-gain", data=None)

    def _exact_jpeg(self) -> Output:
        """The same coefficients in fewer bytes, proven on the decoded pixels too."""
        try:
            smaller = recompress(self.data)
        except JpegError:
            return Output("jpeg", "not-possible")
        if smaller is self.data:
            return Output("jpeg", "not-smaller", None, len(self.data), 100.0, "same coefficients")
        if not np.array_equal(np.asarray(Image.open(io.BytesIO(smaller))), np.asarray(self.image)):
            return Output("jpeg", "not-possible")
        return Output("jpeg", "chosen", smaller, len(smaller), 100.0, "same coefficients")

    def _lossy_jpeg(self) -> Output:
        """The first chroma sampling that reaches the score: half size, or full where half cannot."""
        grey = self.image.mode == "L"
        output = Output("jpeg", "out-of-reach")
        for subsampled in (True,) if grey else (True, False):
            encoder = LossyEncoder.of_jpeg(self.data, self.pixels.rgb, grey=grey, subsampled=subsampled)
            landing = self._aim_main(encoder)
            output = self._lossy_main(landing, encoder, "4:2:0" if subsampled else "4:4:4", output.encodes)
            if landing.best is not None or len(landing.attempts[-1].data) >= self._hopeless:
                break
        return output

    @property
    def _hopeless(self) -> int:
        """An attempt of this size is larger than the file even after its coefficients are coded better."""
        return round(len(self.data) * 1.25)

    def _aim_main(self, encoder: LossyEncoder) -> Landing:
        assert self.recipe.target is not None
        return aim(
            lambda step: encoder.encode(step, searched=False),
            lambda out: self.judge.score(decode(out)),
            self.recipe.target,
            codecs.JPEG,
            stop_above=self._hopeless,
            first=self._first("jpeg", codecs.JPEG),
        )

    def _lossy_main(self, landing: Landing, encoder: LossyEncoder, how: str, before: int) -> Output:
        encodes = before + len(landing.attempts)
        best = landing.best
        if best is None:
            last = landing.attempts[-1]
            verdict: Verdict = "not-smaller" if len(last.data) >= len(self.data) else "out-of-reach"
            return Output("jpeg", verdict, None, len(last.data), last.score, how, encodes)
        if how == "4:2:0":
            self.jpeg_step = float(best.quality)
        how = f"step {best.quality}, {how}"
        smallest = encoder.encode(best.quality, searched=True)
        verdict = self._worth(len(smallest))
        data = smallest if verdict == "chosen" else None
        return Output("jpeg", verdict, data, len(smallest), best.score, how, encodes)

    def _worth(self, size: int) -> Verdict:
        if size >= len(self.data):
            return "not-smaller"
        if size > len(self.data) * (1 - self.recipe.least_gain):
            return "too-little-gain"
        return "chosen"

    def _checked_orientation(self, output: Output) -> Output:
        """A result that would be shown turned otherwise is not taken."""
        if output.data is not None:
            facts = identify(output.data)
            if (facts.orientation, facts.width, facts.height) != (
                self.facts.orientation,
                self.facts.width,
                self.facts.height,
            ):
                return replace(output, data=None, verdict="not-possible")
        return output

    def _png(self) -> Output:
        exact = codecs.encode_png(self.image)
        if not decode(exact).same_as(self.pixels):
            exact = self.data
        candidates = [Output("png", "chosen", exact, len(exact), 100.0, "lossless", 1)]
        if self.recipe.level is not Level.EXACT and self.image.mode not in ("1", "P", "PA"):
            candidates.extend(self._palettes())
        best = min(candidates, key=lambda candidate: candidate.size)
        encodes = sum(candidate.encodes for candidate in candidates)
        if best.size >= len(self.data):
            return replace(best, verdict="not-smaller", data=None, encodes=encodes)
        return self._checked_orientation(replace(best, encodes=encodes))

    def _palettes(self) -> list[Output]:
        assert self.recipe.target is not None
        outputs: list[Output] = []
        for colours in (256, 128, 64, 32):
            data = codecs.encode_png(codecs.to_palette(self.image, colours))
            score = self.judge.score(decode(data))
            if score < self.recipe.target - TOLERANCE:
                break
            outputs.append(Output("png", "chosen", data, len(data), score, f"{colours} colours", 1))
        return outputs

    # -- copies ------------------------------------------------------------------------------

    def _webp_copy(self, limit: int) -> Output:
        if max(self.image.size) > codecs.WEBP_LIMIT:
            return Output("webp", "not-possible")
        lossless = None
        if self.facts.format != "jpeg":
            data = codecs.encode_webp_lossless(self.upright)
            if decode(data).same_as(self.upright_pixels):
                lossless = Output("webp", "chosen", data, len(data), 100.0, "lossless", 1)
        if self.recipe.target is None:
            return self._smallest_copy("webp", [lossless] if lossless else [], limit)
        cap = min(limit, lossless.size) if lossless else limit
        landing = self._aim_copy(
            lambda quality: codecs.encode_webp(self.upright, quality),
            codecs.WEBP,
            cap,
            first=self._first("webp", codecs.WEBP),
        )
        return self._smallest_copy("webp", [lossless] if lossless else [], limit, [(landing, "4:2:0")])

    def _avif_copy(self, limit: int) -> Output:
        if self.recipe.target is None:
            return Output("avif", "not-possible")
        landings: list[tuple[Landing, str]] = []
        for subsampling in ("4:2:0", "4:4:4"):
            landing = self._aim_avif(subsampling, limit)
            landings.append((landing, subsampling))
            if landing.best is not None or len(landing.attempts[-1].data) >= limit:
                break
        return self._smallest_copy("avif", [], limit, landings)

    def _aim_avif(self, subsampling: str, limit: int) -> Landing:
        """Probes at a fast speed, then goes on at the recipe's from where the probe came down."""

        def encode(quality: int, speed: int) -> bytes:
            return codecs.encode_avif(self.upright, quality, speed, subsampling)

        # Slower encodes are smaller, so a probe may be larger than the limit without being hopeless.
        probe = self._aim_copy(
            lambda quality: encode(quality, _PROBE_SPEED),
            codecs.AVIF,
            round(limit * 1.25),
            first=self._first("avif", codecs.AVIF),
        )
        if probe.best is None or self.recipe.avif_speed >= _PROBE_SPEED:
            return probe
        first = probe.best.quality - _PROBE_OFFSET
        final = self._aim_copy(
            lambda quality: encode(quality, self.recipe.avif_speed), codecs.AVIF, limit, first=first, budget=3
        )
        return Landing(final.best or probe.best, probe.attempts + final.attempts)

    def _aim_copy(
        self,
        encode: Callable[[int], bytes],
        knob: Knob,
        cap: int,
        *,
        first: int | None = None,
        budget: int = 7,
    ) -> Landing:
        assert self.recipe.target is not None
        return aim(
            encode,
            lambda out: self.upright_judge.score(decode(out)),
            self.recipe.target,
            knob,
            stop_above=cap,
            first=first,
            budget=budget,
        )

    def _smallest_copy(
        self, kind: str, exact: list[Output], limit: int, landings: list[tuple[Landing, str]] | None = None
    ) -> Output:
        outputs = list(exact)
        encodes = len(exact)
        missed: Output | None = None
        for landing, how in landings or []:
            encodes += len(landing.attempts)
            if landing.best is None:
                last = landing.attempts[-1]
                verdict: Verdict = "not-smaller" if len(last.data) >= limit else "out-of-reach"
                missed = Output(kind, verdict, None, len(last.data), last.score, how)
                continue
            best = landing.best
            outputs.append(
                Output(
                    kind, "chosen", best.data, len(best.data), best.score, f"quality {best.quality}, {how}"
                )
            )
        if not outputs:
            return replace(missed or Output(kind, "not-possible"), encodes=encodes)
        smallest = replace(min(outputs, key=lambda output: output.size), encodes=encodes)
        if smallest.size >= limit:
            return replace(smallest, verdict="not-smaller", data=None)
        return smallest
