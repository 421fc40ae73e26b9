"""How a picture is to be treated: the level, the copies, what stays, and the limits."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from enum import StrEnum
from typing import Any

from .formats import COPIES
from .kinds import RIGHTS_ONLY, Keep, Kind
from .shapes import Point, Sharpening, Size, Touch, Watermark, plain_touches, plain_watermark, touches_of


class Level(StrEnum):
    """A promise about visible difference. See ``TARGETS`` for the score each lossy level aims at."""

    EXACT = "exact"
    GALLERY = "gallery"
    EVERYDAY = "everyday"
    LEAN = "lean"


class Effort(StrEnum):
    """How long to look for the smallest file. What each costs is in docs/measurements.md."""

    QUICK = "quick"
    NORMAL = "normal"
    THOROUGH = "thorough"


#: SSIMULACRA2 points each lossy level aims at. The metric's author gives 90 as "cannot be told
#: apart when flicked between", 80 as "cannot be told apart side by side", and 70 as "hard to
#: notice without the original at hand".
TARGETS: dict[Level, float] = {Level.GALLERY: 90.0, Level.EVERYDAY: 80.0, Level.LEAN: 70.0}

#: What the worst place of a result must score at least, were all the picture like it: docs/imaging/score.md
#: tells how these were set, from pictures looked at.
FLOORS: dict[Level, float] = {Level.GALLERY: 83.0, Level.EVERYDAY: 72.0, Level.LEAN: 58.0}


@dataclass(frozen=True, slots=True)
class TextureFloor:
    """What a result must keep of fine detail, 0 to 1 each.

    ``kept``: the part of its grain at least. ``seen``: the part of its places in which a change may be seen;
    ``drawn``: the same of flat art, of which soft shadows are a small part.
    """

    kept: float
    seen: float
    drawn: float


#: Set from pictures looked at, as docs/imaging/score.md tells; nothing is asked of other levels.
TEXTURE: dict[Level, TextureFloor] = {
    Level.GALLERY: TextureFloor(0.9, 0.15, 0.02),
    Level.EVERYDAY: TextureFloor(0.81, 0.3, 0.05),
}

#: A sample of a large picture has at most so many pixels.
SAMPLE = 1_500_000

#: How far below its target an accepted result may score.
TOLERANCE = 0.5


@dataclass(frozen=True, slots=True)
class Limits:
    """What a picture may cost before it is declined: a matter of the machine, not of the recipe.

    ``pixels`` counts width times height, of all frames together in an animation.
    """

    pixels: int = 200_000_000


class Conversion(StrEnum):
    """Another format that may take a file's place."""

    PHOTOGRAPH_TO_JPEG = "photograph-to-jpeg"  # an opaque PNG
    FLAT_TO_PNG = "flat-to-png"  # a JPEG of few colours
    GIF_TO_PNG = "gif-to-png"  # one that does not move
    FOR_THE_WEB = "for-the-web"  # TIFF, HEIF and BMP, which browsers do not show or nobody packs


EVERY_CONVERSION = frozenset(Conversion)


@dataclass(frozen=True, slots=True)
class FixedQuality:
    """An encoder's own quality, 1 to 100, instead of aiming at the level's score; None aims."""

    jpeg: int | None = None
    webp: int | None = None
    avif: int | None = None


@dataclass(frozen=True, slots=True)
class Recipe:
    """Settings for one treatment.

    ``copies`` are the formats of the copies that are wanted. ``least_gain`` is the part of the file's size
    that a lossy replacement must save to be worth a change of pixels, 0 to 1; an exact one is taken for a
    single byte. ``metadata`` are the kinds that stay. ``clear_hidden``: the colour under full transparency,
    which nobody sees, may be cleared. ``convert`` names the other formats that are offered for the
    file itself where they are smaller. ``keep_larger_copies`` takes copies that are no smaller than the
    file. ``fixed`` sets encoders' qualities in place of aiming. ``largest`` is the width and height a
    picture is fitted into, 0 for no limit, ``sharpening`` what is done when it was, or with
    ``sharpen_all`` to every still picture, but at the exact level. ``save_data``: each copy is made once more
    at the level below, for who asks for less data. ``document_ppi``: pixels to the inch that the pictures of
    a document have at most where they are shown largest, 0 for any; not at the exact level.

    ``touches``, ``size`` and ``watermark`` shape the picture, in this order; what they make of it is what
    every promise is about then. ``focus`` is the point that a size is cut around, in the picture as it first
    was.
    """

    level: Level = Level.EVERYDAY
    copies: frozenset[str] = frozenset(COPIES)
    effort: Effort = Effort.NORMAL
    least_gain: float = 0.02
    metadata: Keep = RIGHTS_ONLY
    clear_hidden: bool = True
    convert: frozenset[Conversion] = frozenset()
    keep_larger_copies: bool = False
    save_data: bool = False
    document_ppi: int = 0
    fixed: FixedQuality = field(default_factory=FixedQuality)
    largest: tuple[int, int] = (0, 0)
    sharpening: Sharpening = field(default_factory=Sharpening)
    sharpen_all: bool = False
    touches: tuple[Touch, ...] = ()
    size: Size | None = None
    watermark: Watermark | None = None
    focus: Point | None = None

    @property
    def shapes(self) -> bool:
        """Whether another picture is made of the picture: then there is a result, whatever its size."""
        return bool(self.touches) or self.size is not None or self.watermark is not None or self.sharpens

    @property
    def sharpens(self) -> bool:
        """Whether the picture itself is sharpened, whatever its size."""
        return self.sharpen_all and self.sharpening.amount > 0 and self.level is not Level.EXACT

    @property
    def target(self) -> float | None:
        """The score aimed at; None for exact."""
        return TARGETS.get(self.level)

    @property
    def leeway(self) -> float:
        """Points by which the worst place may score less than the whole must."""
        return TARGETS[self.level] - FLOORS[self.level]

    @property
    def texture(self) -> TextureFloor | None:
        """What must be kept of fine detail; None where nothing is asked."""
        return TEXTURE.get(self.level)

    def as_dict(self) -> dict[str, Any]:
        """Plain data, for records; :meth:`from_dict` reads it back."""
        plain = {
            "level": str(self.level),
            "effort": str(self.effort),
            "copies": sorted(self.copies),
            "metadata": sorted(map(str, self.metadata)),
            "convert": sorted(map(str, self.convert)),
            "largest": list(self.largest),
            "touches": plain_touches(self.touches),
            "watermark": None if self.watermark is None else plain_watermark(self.watermark),
            "focus": None if self.focus is None else list(self.focus),
        }
        return asdict(self) | plain

    @classmethod
    def from_dict(cls, values: dict[str, Any]) -> Recipe:
        """Raises ValueError for an unknown level, TypeError for an unknown setting."""
        values = dict(values)
        values["level"] = Level(values["level"])
        if "copies" in values:
            values["copies"] = frozenset(values["copies"])
        if "effort" in values:
            values["effort"] = Effort(values["effort"])
        if "metadata" in values:
            values["metadata"] = frozenset(Kind(kind) for kind in values["metadata"])
        if "convert" in values:
            values["convert"] = frozenset(Conversion(one) for one in values["convert"])
        if "largest" in values:
            values["largest"] = tuple(values["largest"])
        if values.get("touches"):
            values["touches"] = touches_of(values["touches"])
        elif "touches" in values:
            values["touches"] = ()
        if values.get("size") is not None:
            sharpening = Sharpening(**values["size"].get("sharpening", {}))
            values["size"] = Size(**values["size"] | {"sharpening": sharpening})
        if values.get("focus") is not None:
            values["focus"] = tuple(values["focus"])
        for name, kind in (("sharpening", Sharpening), ("fixed", FixedQuality), ("watermark", Watermark)):
            if values.get(name) is not None:
                values[name] = kind(**values[name])
        return cls(**values)
