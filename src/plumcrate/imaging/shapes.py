"""How a picture is shaped before it is encoded: touch-ups, a size, a watermark; as plain data.

Places in a picture are parts of its width and height as it is shown, 0 to 1 from the left and the top.
Touch-ups are applied in their order, each to what the one before made.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, fields
from typing import Any, ClassVar, Literal

from .formats import FormatName

Point = tuple[float, float]
Colour = tuple[int, int, int]
#: Where the least of a picture is cut away, or a watermark stands.
Place = Literal[
    "top-left", "top", "top-right", "left", "centre", "right", "bottom-left", "bottom", "bottom-right"
]
#: A place, the picture's own focal point, or what matters in it.
Anchor = Place | Literal["focus", "matters"]
Way = Literal["fit", "fill", "stretch"]

PLACES: dict[Place, Point] = {
    "top-left": (0.0, 0.0),
    "top": (0.5, 0.0),
    "top-right": (1.0, 0.0),
    "left": (0.0, 0.5),
    "centre": (0.5, 0.5),
    "right": (1.0, 0.5),
    "bottom-left": (0.0, 1.0),
    "bottom": (0.5, 1.0),
    "bottom-right": (1.0, 1.0),
}


@dataclass(frozen=True, slots=True)
class Sharpening:
    """Unsharp masking.

    ``amount`` 0 (off) to 5; ``radius`` in pixels, 0.3 to 5; ``threshold`` in sample values, below
    which a difference is taken for noise, 0 to 255.
    """

    amount: float = 0.0
    radius: float = 0.6
    threshold: int = 2


@dataclass(frozen=True, slots=True)
class Crop:
    """Turned by ``angle`` degrees against the clock, -45 to 45, with the corners that come up empty cut away;
    then cut to a box."""

    kind: ClassVar[str] = "crop"
    left: float = 0.0
    top: float = 0.0
    width: float = 1.0
    height: float = 1.0
    angle: float = 0.0


@dataclass(frozen=True, slots=True)
class Rotation:
    """By quarters with the clock, 0 to 3; mirrored left to right before that when ``mirrored``."""

    kind: ClassVar[str] = "turn"
    quarters: int = 0
    mirrored: bool = False


@dataclass(frozen=True, slots=True)
class Brightness:
    """-100 to 100; black and white stay."""

    kind: ClassVar[str] = "brightness"
    amount: float = 0.0


@dataclass(frozen=True, slots=True)
class Contrast:
    """-100 to 100; black, the middle and white stay."""

    kind: ClassVar[str] = "contrast"
    amount: float = 0.0


@dataclass(frozen=True, slots=True)
class White:
    """The colour of the picture that is to become neutral."""

    kind: ClassVar[str] = "white"
    colour: Colour = (255, 255, 255)


@dataclass(frozen=True, slots=True)
class Saturation:
    """-100 (none) to 100 (twice as much)."""

    kind: ClassVar[str] = "saturation"
    amount: float = 0.0


@dataclass(frozen=True, slots=True)
class Sharpen:
    """As :class:`Sharpening`."""

    kind: ClassVar[str] = "sharpen"
    amount: float = 0.5
    radius: float = 0.6
    threshold: int = 2


@dataclass(frozen=True, slots=True)
class Grey:
    """All colour goes, light stays."""

    kind: ClassVar[str] = "grey"


@dataclass(frozen=True, slots=True)
class Cover:
    """A stroke of a round brush through ``points`` is painted over: with a colour, with what lies ``offset``
    away, or with what continues its surroundings.

    ``radius`` is a part of the picture's longer side; ``soft`` the part of it that fades out, 0 to 1.
    """

    kind: ClassVar[str] = "cover"
    points: tuple[Point, ...] = ()
    radius: float = 0.02
    soft: float = 0.3
    way: Literal["colour", "clone", "surroundings"] = "surroundings"
    colour: Colour = (255, 255, 255)
    offset: Point = (0.0, 0.0)


Touch = Crop | Rotation | Brightness | Contrast | White | Saturation | Sharpen | Grey | Cover
TOUCHES: dict[str, type[Touch]] = {
    kind.kind: kind
    for kind in (Crop, Rotation, Brightness, Contrast, White, Saturation, Sharpen, Grey, Cover)
}


@dataclass(frozen=True, slots=True)
class Size:
    """``fit`` into width and height (0: no limit), ``fill`` them and be cut at ``anchor``, or ``stretch``.

    Nothing is ever made larger. ``format``: another than the picture's; ``grey``: without colour.
    """

    width: int
    height: int
    way: Way = "fit"
    anchor: Anchor = "centre"
    grey: bool = False
    format: FormatName | None = None
    sharpening: Sharpening = field(default_factory=Sharpening)


@dataclass(frozen=True, slots=True)
class Watermark:
    """A picture with transparency, or words, laid over.

    ``width`` is a part of the picture's; ``margin`` a part of its shorter side; ``opacity`` 0 to 1;
    ``least`` the width in pixels below which a watermark cannot be read, and is left out; ``tone`` light,
    dark, the one that stands out from what is under it, or as the watermark is. ``sha256`` of ``data``, the
    watermark's file.
    """

    place: Place = "bottom-right"
    width: float = 0.2
    margin: float = 0.03
    opacity: float = 0.6
    least: int = 60
    tone: Literal["light", "dark", "under", "own"] = "under"
    words: str = ""
    sha256: str = ""
    data: bytes = field(default=b"", repr=False, compare=False)


def plain_touches(touches: Sequence[Touch]) -> list[dict[str, Any]]:
    """Touch-ups as plain data; :func:`touches_of` reads it back."""
    return [{"kind": touch.kind} | _listed(asdict(touch)) for touch in touches]


def plain_watermark(watermark: Watermark) -> dict[str, Any]:
    """A watermark without its bytes, which its digest stands for, and without what is usual."""
    return {
        one.name: getattr(watermark, one.name)
        for one in fields(watermark)
        if one.name != "data" and getattr(watermark, one.name) != one.default
    }


def plain_size(size: Size) -> dict[str, Any]:
    """A size without what is usual, so that a setting that is new changes no former file."""
    usual = asdict(Size(0, 0))
    return {
        name: value
        for name, value in asdict(size).items()
        if name in ("width", "height") or value != usual[name]
    }


def touches_of(values: Sequence[dict[str, Any]]) -> tuple[Touch, ...]:
    """Raises ValueError for an unknown kind, TypeError for an unknown setting."""
    out: list[Touch] = []
    for one in values:
        kind = TOUCHES.get(one["kind"])
        if kind is None:
            raise ValueError(f"there is no touch-up {one['kind']!r}")
        names = {each.name for each in fields(kind)}
        out.append(kind(**{key: _tupled(value) for key, value in one.items() if key in names}))
    return tuple(out)


def _listed(values: dict[str, Any]) -> dict[str, Any]:
    return {key: _as_lists(value) for key, value in values.items()}


def _as_lists(value: Any) -> Any:
    return [_as_lists(one) for one in value] if isinstance(value, tuple | list) else value


def _tupled(value: Any) -> Any:
    return tuple(_tupled(one) for one in value) if isinstance(value, list | tuple) else value


# -- sizes without pixels -----------------------------------------------------------------------


def straightened(width: int, height: int, angle: float) -> tuple[int, int]:
    """The largest box of the same proportions inside a picture turned by so many degrees."""
    turn = math.radians(abs(angle))
    sin, cos = math.sin(turn), math.cos(turn)
    scale = min(width / (width * cos + height * sin), height / (width * sin + height * cos))
    return max(1, math.floor(width * scale)), max(1, math.floor(height * scale))


def box_of(crop: Crop, width: int, height: int) -> tuple[int, int, int, int]:
    """Left, top, right, bottom in pixels of a straightened picture; at least one pixel each way."""
    left = min(round(crop.left * width), width - 1)
    top = min(round(crop.top * height), height - 1)
    right = min(max(round((crop.left + crop.width) * width), left + 1), width)
    bottom = min(max(round((crop.top + crop.height) * height), top + 1), height)
    return left, top, right, bottom


def touched_size(width: int, height: int, touches: Sequence[Touch]) -> tuple[int, int]:
    """Width and height of a picture after its touch-ups."""
    for touch in touches:
        if isinstance(touch, Crop):
            if touch.angle:
                width, height = straightened(width, height, touch.angle)
            left, top, right, bottom = box_of(touch, width, height)
            width, height = right - left, bottom - top
        elif isinstance(touch, Rotation) and touch.quarters % 2:
            width, height = height, width
    return width, height


def touched_point(point: Point, width: int, height: int, touches: Sequence[Touch]) -> Point:
    """Where a point of the original lies after touch-ups; on the nearest edge when it was cut away."""
    x, y = point
    for touch in touches:
        if isinstance(touch, Crop):
            if touch.angle:
                x, y = _straightened_point(x, y, width, height, touch.angle)
                width, height = straightened(width, height, touch.angle)
            left, top, right, bottom = box_of(touch, width, height)
            x, y = (x * width - left) / (right - left), (y * height - top) / (bottom - top)
            width, height = right - left, bottom - top
        elif isinstance(touch, Rotation):
            x = 1 - x if touch.mirrored else x
            for _ in range(touch.quarters % 4):
                x, y, width, height = 1 - y, x, height, width
    return min(max(x, 0.0), 1.0), min(max(y, 0.0), 1.0)


def _straightened_point(x: float, y: float, width: int, height: int, angle: float) -> Point:
    turn = math.radians(angle)
    across, down = (x - 0.5) * width, (y - 0.5) * height
    wide, tall = straightened(width, height, angle)
    turned = (
        across * math.cos(turn) + down * math.sin(turn),
        -across * math.sin(turn) + down * math.cos(turn),
    )
    return turned[0] / wide + 0.5, turned[1] / tall + 0.5


def sized(width: int, height: int, size: Size) -> tuple[int, int] | None:
    """What a size makes of a picture's width and height; None where it would be no smaller, or larger."""
    wide, tall = size.width or width, size.height or height
    if size.way == "stretch":
        return (wide, tall) if wide <= width and tall <= height and (wide, tall) != (width, height) else None
    if size.way == "fit":
        scale = min(wide / width, tall / height)
        return None if scale >= 1 else (max(1, round(width * scale)), max(1, round(height * scale)))
    if width < wide or height < tall:
        # Not large enough to fill it: the same proportions, as large as the picture is.
        scale = min(width / wide, height / tall)
        wide, tall = max(1, round(wide * scale)), max(1, round(tall * scale))
    return None if (wide, tall) == (width, height) else (wide, tall)


def cut(width: int, height: int, wanted: tuple[int, int], at: Point) -> tuple[int, int, int, int]:
    """The largest box with the proportions of ``wanted``, around ``at`` as far as the picture reaches."""
    scale = min(width / wanted[0], height / wanted[1])
    wide, tall = min(width, round(wanted[0] * scale)), min(height, round(wanted[1] * scale))
    left = min(max(round(at[0] * width - wide / 2), 0), width - wide)
    top = min(max(round(at[1] * height - tall / 2), 0), height - tall)
    return left, top, left + wide, top + tall


def cut_at_place(width: int, height: int, wanted: tuple[int, int], place: Place) -> tuple[int, int, int, int]:
    """The largest box with the proportions of ``wanted``, in a corner, at a side or in the middle."""
    scale = min(width / wanted[0], height / wanted[1])
    wide, tall = min(width, round(wanted[0] * scale)), min(height, round(wanted[1] * scale))
    across, down = PLACES[place]
    left, top = round((width - wide) * across), round((height - tall) * down)
    return left, top, left + wide, top + tall
