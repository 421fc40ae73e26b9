"""Paper to draw on: A4 in our type and colours, with slats, figures, rows and pictures.

All lengths are in millimetres, sizes of type in points.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from datetime import datetime
from functools import cache
from pathlib import Path

from fontTools.ttLib import TTFont
from fpdf import FPDF
from PIL import Image

_TYPE = Path(__file__).parents[1] / "type"
_FONTS = {
    "sans": "PublicSans-Regular",
    "strong": "PublicSans-SemiBold",
    "head": "Fraunces-SemiBold",
    "other": "NotoSans-Regular",
}
WIDTH, HEIGHT, MARGIN, FOOT = 210.0, 297.0, 18.0, 20.0
#: The width between the margins.
INNER = WIDTH - 2 * MARGIN
Colour = tuple[int, int, int]
INK: Colour = (42, 26, 46)
QUIET: Colour = (106, 90, 102)
LINE: Colour = (217, 204, 184)
HOLLOW: Colour = (246, 240, 230)
LEAF: Colour = (47, 107, 74)
CLAY: Colour = (168, 72, 31)
WHITE: Colour = (255, 255, 255)
HUES: dict[str, Colour] = {
    "jpeg": (107, 44, 92),
    "png": (52, 96, 143),
    "gif": (148, 101, 26),
    "webp": (31, 114, 118),
    "avif": (76, 107, 30),
    "other": (91, 100, 112),
}
_NOTCH = 0.6  # narrower differences have none
_PIXELS_A_MM = 9  # of pictures, about 230 to the inch


@cache
def _known(font: str) -> frozenset[int]:
    with TTFont(_TYPE / f"{_FONTS[font]}.ttf", lazy=True) as loaded:
        return frozenset(loaded.getBestCmap())


def shown(text: str) -> str:
    """Text as it can be drawn: nothing that is no character, and ``?`` for what no font of ours has."""
    characters = (character if character.isprintable() else "�" for character in text)
    known = _known("sans") | _known("other")
    return "".join(character if ord(character) in known else "?" for character in characters)


class Paper(FPDF):
    """Pages with a foot. ``y`` goes down by what is drawn; a new page begins where something has no room."""

    def __init__(self, title: str, foot: str, made_at: datetime) -> None:
        super().__init__(format="A4")
        for name, file in _FONTS.items():
            self.add_font(name, fname=_TYPE / f"{file}.ttf")
        self.set_fallback_fonts(["other"], exact_match=False)
        self.set_auto_page_break(False)
        self.set_margins(MARGIN, MARGIN, MARGIN)
        self.c_margin = 0  # text begins where all else does
        self.set_title(shown(title))
        self.set_producer("Plum Crate")
        self.set_creation_date(made_at)
        self._foot = foot
        self.add_page()

    def footer(self) -> None:
        self.set_draw_color(*LINE)
        self.set_line_width(0.2)
        self.line(MARGIN, HEIGHT - FOOT + 4, WIDTH - MARGIN, HEIGHT - FOOT + 4)
        self.put(self._foot, MARGIN, HEIGHT - FOOT + 6, 120, size=7.5, colour=QUIET)
        self.put(
            f"Page {self.page_no()}",
            WIDTH - MARGIN - 40,
            HEIGHT - FOOT + 6,
            40,
            size=7.5,
            colour=QUIET,
            right=True,
        )

    def room(self, height: float) -> None:
        """Begins a new page when so much has no room on this one."""
        if self.y + height > HEIGHT - FOOT:
            self.add_page()
            self.set_y(MARGIN)

    def put(
        self,
        text: str,
        x: float,
        y: float,
        width: float,
        *,
        size: float = 9.5,
        font: str = "sans",
        colour: Colour = INK,
        right: bool = False,
        middle: bool = False,
    ) -> float:
        """One line of text in a box, cut where it is too long; returns the line's height. ``middle``: cut in
        its middle, as is fit for paths."""
        self.set_font(font, size=size)
        self.set_text_color(*colour)
        height = size * 0.3528 * 1.35
        line = self._cut(shown(text), width, middle)
        self.set_xy(x, y)
        self.cell(width, height, line, align="R" if right else "L")
        self.set_xy(MARGIN, y)
        return height

    def _cut(self, text: str, width: float, middle: bool) -> str:
        if self.get_string_width(text) <= width:
            return text
        keep = min(len(text), 400)
        while keep > 1:
            half = keep // 2
            cut = f"{text[: keep - half]}…{text[-half:]}" if middle and half else f"{text[:keep]}…"
            if self.get_string_width(cut) <= width:
                return cut
            keep -= max(1, keep // 12)
        return "…"

    def heading(self, text: str, under: str = "", need: float = 24) -> None:
        """A heading that stays with what follows it."""
        self.room(need + 14)
        self.set_y(self.y + 6)
        y = self.y
        y += self.put(text, MARGIN, y, INNER, size=14, font="head")
        if under:
            y += self.put(under, MARGIN, y, INNER, size=8.5, colour=QUIET)
        self.set_y(y + 2)

    def slat(
        self,
        x: float,
        y: float,
        width: float,
        height: float,
        before: int,
        now: int,
        lightest: int,
        scale: int,
        hue: str = "jpeg",
    ) -> None:
        """The outline is what something weighed, its filled part what it weighs, the notch its lightest
        form."""
        colour = HUES.get(hue, HUES["other"])
        outline = max(0.8, width * before / max(scale, 1)) if before else 0.0
        if not outline:
            return
        self.set_draw_color(*colour)
        self.set_fill_color(*HOLLOW)
        self.set_line_width(0.25)
        self.rect(x, y, outline, height, style="DF")
        self.set_fill_color(*colour)
        self.rect(x, y, min(outline, outline * now / before), height, style="F")
        if outline * (now - lightest) / before > _NOTCH:
            self.set_fill_color(*WHITE)
            self.rect(x + outline * lightest / before, y, _NOTCH, height, style="F")

    def rows(
        self,
        heads: Sequence[str],
        widths: Sequence[float],
        rows: Sequence[Sequence[str]],
        draw: Callable[[int, float, float], None] | None = None,
    ) -> None:
        """A table; the first column to the left, the others to the right. ``draw`` gets a row's number, and
        where its last column begins, to draw there."""
        self.room(18)
        self._row(heads, widths, QUIET, 7.5)
        for number, row in enumerate(rows):
            self.room(6.5)
            y = self.y
            self._row(row, widths, INK, 9)
            if draw is not None:
                draw(number, MARGIN + sum(widths), y)

    def _row(self, cells: Sequence[str], widths: Sequence[float], colour: Colour, size: float) -> None:
        x, y = MARGIN, self.y
        for at, (cell, width) in enumerate(zip(cells, widths, strict=True)):
            self.put(cell, x, y, width, size=size, colour=colour, right=at > 0, middle=at == 0)
            x += width
        self.set_y(y + 6)

    def picture(self, data: bytes | None, x: float, y: float, width: float, height: float) -> None:
        """A picture, whole, in a box of such a size; the bare box where there is none."""
        self.set_draw_color(*LINE)
        self.set_fill_color(*HOLLOW)
        self.set_line_width(0.2)
        self.rect(x, y, width, height, style="DF")
        if data is None:
            return
        with Image.open(io.BytesIO(data)) as opened:
            small = opened.convert("RGBA")
        small.thumbnail((round(width * _PIXELS_A_MM), round(height * _PIXELS_A_MM)))
        ground = Image.new("RGB", small.size, HOLLOW)
        ground.paste(small, mask=small.getchannel("A"))
        written = io.BytesIO()
        ground.save(written, "JPEG", quality=88)
        scale = min(width / small.width, height / small.height)
        wide, high = small.width * scale, small.height * scale
        self.image(written, x + (width - wide) / 2, y + (height - high) / 2, wide, high)
