"""What a trust's office draws: charts on cards, logos, windows, gradients and shadows, light and dark.

Each is painted at three times its size and made smaller, so that edges are as soft as a drawing program
makes them; shadows are blurred. With ``transparent`` there is no ground.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PIL import Image, ImageDraw, ImageFilter, ImageFont

_OVER = 3
Colour = tuple[int, int, int]
_SERIES: tuple[Colour, ...] = (
    (107, 44, 92),
    (122, 54, 106),
    (31, 78, 95),
    (201, 120, 44),
    (86, 130, 72),
    (176, 58, 46),
)


@dataclass(frozen=True, slots=True)
class Look:
    """The colours of a drawing."""

    ground: Colour
    card: Colour
    ink: Colour
    line: Colour
    shadow: int


LIGHT = Look((244, 240, 233), (255, 255, 255), (42, 26, 46), (222, 216, 206), 110)
DARK = Look((24, 20, 28), (38, 32, 44), (236, 230, 240), (62, 54, 70), 200)


class Sheet:
    """A drawing in the making; lengths are in pixels of the finished one."""

    def __init__(self, width: int, height: int, look: Look, transparent: bool) -> None:
        self.width, self.height, self.look = width, height, look
        ground = (*look.ground, 0 if transparent else 255)
        self.image = Image.new("RGBA", (width * _OVER, height * _OVER), ground)
        self.draw = ImageDraw.Draw(self.image)

    def box(
        self, left: float, top: float, right: float, bottom: float, fill: Colour, radius: float = 0
    ) -> None:
        corners = [value * _OVER for value in (left, top, right, bottom)]
        self.draw.rounded_rectangle(corners, radius * _OVER, fill=(*fill, 255))

    def card(self, left: float, top: float, right: float, bottom: float, blur: float = 9) -> None:
        """A card with a soft shadow under it."""
        shade = Image.new("L", self.image.size, 0)
        corners = [value * _OVER for value in (left, top + blur / 2, right, bottom + blur / 2)]
        ImageDraw.Draw(shade).rounded_rectangle(corners, 10 * _OVER, fill=self.look.shadow)
        shade = shade.filter(ImageFilter.GaussianBlur(blur * _OVER))
        black = Image.new("RGBA", self.image.size, (0, 0, 0, 255))
        black.putalpha(shade)
        self.image.alpha_composite(black)
        self.box(left, top, right, bottom, self.look.card, 10)

    def text(self, left: float, top: float, words: str, size: float, fill: Colour | None = None) -> None:
        font = ImageFont.load_default(size * _OVER)
        self.draw.text((left * _OVER, top * _OVER), words, fill=(*(fill or self.look.ink), 255), font=font)

    def line(self, points: list[tuple[float, float]], fill: Colour, width: float) -> None:
        scaled = [(x * _OVER, y * _OVER) for x, y in points]
        self.draw.line(scaled, fill=(*fill, 255), width=round(width * _OVER), joint="curve")

    def pie(self, x: float, y: float, radius: float, start: float, end: float, fill: Colour) -> None:
        corners = [value * _OVER for value in (x - radius, y - radius, x + radius, y + radius)]
        self.draw.pieslice(corners, start, end, fill=(*fill, 255))

    def disc(self, x: float, y: float, radius: float, fill: Colour) -> None:
        self.pie(x, y, radius, 0, 360, fill)

    def shade(
        self, part: Callable[[np.ndarray, np.ndarray], np.ndarray], first: Colour, last: Colour
    ) -> None:
        """Fills all from ``first`` to ``last`` by a function of x and y, 0 to 1 each, to 0 to 1."""
        y, x = np.mgrid[0 : self.height, 0 : self.width]
        mix = np.clip(part(x / self.width, y / self.height), 0, 1)[..., None]
        colours = np.rint(np.array(first) * (1 - mix) + np.array(last) * mix).astype(np.uint8)
        filled = Image.fromarray(colours).resize(self.image.size, Image.Resampling.BICUBIC).convert("RGBA")
        self.image.paste(filled)
        self.draw = ImageDraw.Draw(self.image)

    def finished(self) -> Image.Image:
        small = self.image.resize((self.width, self.height), Image.Resampling.BOX)
        return small if np.asarray(small)[..., 3].min() < 255 else small.convert("RGB")


def bars(sheet: Sheet) -> None:
    """Six bars on a card with a soft shadow; the first two colours are near each other."""
    w, h = sheet.width, sheet.height
    sheet.card(w * 0.06, h * 0.08, w * 0.94, h * 0.9)
    for number, share in enumerate((0.5, 0.72, 0.35, 0.9, 0.62, 0.44)):
        left = w * (0.14 + number * 0.125)
        sheet.box(left, h * (0.82 - 0.6 * share), left + w * 0.08, h * 0.82, _SERIES[number], 3)
        sheet.text(left, h * 0.835, f"{2020 + number}", h * 0.035)
    sheet.text(w * 0.14, h * 0.12, "Visitors at Gannet Ledge", h * 0.05)


def curves(sheet: Sheet) -> None:
    """Three curves over a grid."""
    w, h = sheet.width, sheet.height
    sheet.box(w * 0.05, h * 0.05, w * 0.95, h * 0.95, sheet.look.card)
    for row in range(6):
        sheet.line(
            [(w * 0.1, h * (0.15 + row * 0.14)), (w * 0.92, h * (0.15 + row * 0.14))], sheet.look.line, 1
        )
    for number in range(3):
        points = [
            (w * (0.1 + 0.82 * t), h * (0.5 + 0.25 * math.sin(6 * t + number) * (1 - 0.4 * t)))
            for t in np.linspace(0, 1, 90)
        ]
        sheet.line(points, _SERIES[number * 2], 2.5)


def shares(sheet: Sheet) -> None:
    """A ring of shares with its key."""
    w, h = sheet.width, sheet.height
    sheet.card(w * 0.05, h * 0.06, w * 0.95, h * 0.92, 14)
    start = -90.0
    for number, share in enumerate((0.34, 0.22, 0.16, 0.12, 0.1, 0.06)):
        sheet.pie(w * 0.34, h * 0.5, h * 0.34, start, start + 360 * share, _SERIES[number])
        start += 360 * share
        sheet.box(w * 0.66, h * (0.2 + 0.1 * number), w * 0.69, h * (0.25 + 0.1 * number), _SERIES[number], 2)
        sheet.text(w * 0.71, h * (0.2 + 0.1 * number), f"{share:.0%}", h * 0.04)
    sheet.disc(w * 0.34, h * 0.5, h * 0.18, sheet.look.card)


def lamp_logo(sheet: Sheet) -> None:
    """Flat shapes with soft edges: a ledge, a tower, a beam."""
    w, h = sheet.width, sheet.height
    beam = [(w * 0.5, h * 0.3), (w * 0.95, h * 0.12), (w * 0.95, h * 0.42)]
    sheet.draw.polygon([(x * _OVER, y * _OVER) for x, y in beam], fill=(240, 196, 96, 255))
    sheet.box(w * 0.44, h * 0.36, w * 0.56, h * 0.86, _SERIES[0])
    sheet.box(w * 0.42, h * 0.22, w * 0.58, h * 0.36, sheet.look.ink, 4)
    sheet.pie(w * 0.5, h * 0.98, w * 0.4, 180, 360, _SERIES[2])


def window(sheet: Sheet) -> None:
    """A window with a bar, a list and buttons."""
    w, h = sheet.width, sheet.height
    sheet.card(w * 0.05, h * 0.06, w * 0.95, h * 0.9, 16)
    sheet.box(w * 0.05, h * 0.06, w * 0.95, h * 0.16, _SERIES[0], 10)
    sheet.text(w * 0.08, h * 0.085, "Keeper's log", h * 0.045, (255, 255, 255))
    for row in range(5):
        y = h * (0.22 + row * 0.1)
        sheet.disc(w * 0.11, y + h * 0.03, h * 0.025, _SERIES[row])
        sheet.text(w * 0.16, y, f"Watch {row + 1}: wind from the west, lamp lit at dusk", h * 0.035)
        sheet.line([(w * 0.08, y + h * 0.075), (w * 0.92, y + h * 0.075)], sheet.look.line, 1)
    sheet.box(w * 0.6, h * 0.76, w * 0.75, h * 0.84, sheet.look.line, 6)
    sheet.box(w * 0.77, h * 0.76, w * 0.92, h * 0.84, _SERIES[2], 6)


def dusk(sheet: Sheet) -> None:
    """A sky from top to bottom, and a headline on it."""
    last = (246, 214, 190) if sheet.look is LIGHT else (58, 30, 66)
    sheet.shade(lambda x, y: y, (70, 96, 150) if sheet.look is LIGHT else (12, 12, 30), last)
    sheet.text(
        sheet.width * 0.1, sheet.height * 0.4, "Open days in June", sheet.height * 0.1, (255, 255, 255)
    )


def glow(sheet: Sheet) -> None:
    """A light in the middle that fades outwards."""
    first = (255, 244, 214) if sheet.look is LIGHT else (120, 84, 40)
    sheet.shade(lambda x, y: np.hypot(x - 0.5, y - 0.5) * 1.4, first, sheet.look.ground)
    sheet.disc(sheet.width * 0.5, sheet.height * 0.5, sheet.height * 0.06, _SERIES[3])


def shadows(sheet: Sheet) -> None:
    """Cards in three heights above their ground."""
    w, h = sheet.width, sheet.height
    for number, blur in enumerate((5, 12, 24)):
        left = w * (0.07 + number * 0.31)
        sheet.card(left, h * 0.25, left + w * 0.24, h * 0.7, blur)


def warmth(sheet: Sheet) -> None:
    """A map of many even fields, near each other in colour, with a scale beside it."""
    w, h = sheet.width, sheet.height
    rng = np.random.default_rng(9)
    for row in range(8):
        for column in range(10):
            part = float(np.clip((row + column) / 16 + rng.normal(0, 0.06), 0, 1))
            sheet.box(
                w * (0.05 + column * 0.08),
                h * (0.06 + row * 0.11),
                w * (0.125 + column * 0.08),
                h * (0.16 + row * 0.11),
                (round(60 + 180 * part), round(80 + 60 * part), round(170 - 110 * part)),
            )
    for step in range(64):
        part = step / 63
        fill = (round(60 + 180 * part), round(80 + 60 * part), round(170 - 110 * part))
        sheet.box(w * 0.9, h * (0.94 - step * 0.0137), w * 0.94, h * (0.954 - step * 0.0137), fill)


def buttons(sheet: Sheet) -> None:
    """Icons on discs that shade from top to bottom, as interfaces have them."""
    w, h = sheet.width, sheet.height
    for number in range(6):
        x, y, radius = w * (0.18 + number % 3 * 0.32), h * (0.28 + number // 3 * 0.44), h * 0.16
        for step in range(int(radius * 2 * _OVER)):
            part = step / (radius * 2 * _OVER)
            colour = tuple(round(value * (1.15 - 0.35 * part)) for value in _SERIES[number])
            at = y - radius + step / _OVER
            half = math.sqrt(max(0.0, radius**2 - (at - y) ** 2))
            filled = (*(min(255, value) for value in colour), 255)
            sheet.draw.line(
                ((x - half) * _OVER, at * _OVER, (x + half) * _OVER, at * _OVER), fill=filled, width=1
            )
        sheet.box(x - radius * 0.4, y - radius * 0.1, x + radius * 0.4, y + radius * 0.1, (255, 255, 255), 2)


KINDS: dict[str, Callable[[Sheet], None]] = {
    kind.__name__.replace("_", "-"): kind
    for kind in (bars, curves, shares, lamp_logo, window, dusk, glow, shadows, warmth, buttons)
}


def diagram(kind: str, look: Look = LIGHT, *, transparent: bool = False, width: int = 640) -> Image.Image:
    """A drawing of one of :data:`KINDS`, RGB, or RGBA where something shows through."""
    sheet = Sheet(width, width * 5 // 8, look, transparent)
    KINDS[kind](sheet)
    return sheet.finished()


def every_diagram(width: int = 640) -> dict[str, Image.Image]:
    """All kinds, light and dark, with and without a ground: 40 drawings by name."""
    return {
        f"{kind}-{name}{'-clear' if transparent else ''}": diagram(
            kind, look, transparent=transparent, width=width
        )
        for kind in KINDS
        for name, look in (("light", LIGHT), ("dark", DARK))
        for transparent in (False, True)
    }
