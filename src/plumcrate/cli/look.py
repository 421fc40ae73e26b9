"""How things look in a terminal: bytes, per cent, and the slat.

A slat is a bar whose outline is what something weighed and whose filled part is what it weighs now.
"""

from __future__ import annotations

from datetime import timedelta

from rich.text import Text

PLUM, LEAF, CLAY, QUIET = "magenta", "green", "yellow", "bright_black"


def plain(text: str) -> str:
    """A text from elsewhere without anything that a terminal obeys."""
    return "".join(sign if sign.isprintable() or sign == "\n" else f"\\x{ord(sign):02x}" for sign in text)


def size(count: int | None) -> str:
    """Decimal bytes with at most three significant digits: ``412 kB``, ``1.85 MB``."""
    if count is None:
        return "–"
    if count < 1000:
        return f"{count} B"
    value, unit = float(count), "B"
    units = ["TB", "GB", "MB", "kB"]
    while units and value >= 999.5:
        value /= 1000
        unit = units.pop()
    digits = 2 if value < 9.995 else 1 if value < 99.95 else 0
    return f"{value:.{digits}f} {unit}"


def saved(before: int | None, now: int | None) -> str:
    """The saving in per cent of what it was: ``−34 %``."""
    if not before or now is None:
        return "–"
    share = 100 * (before - now) / before
    if abs(share) < 0.05:
        return "0 %"
    sign = "−" if share > 0 else "+"
    return f"{sign}{abs(share):.0f} %" if abs(share) >= 9.95 else f"{sign}{abs(share):.1f} %"


def slat(before: int, now: int, width: int = 24, scale: int | None = None) -> Text:
    """A bar of at most ``width`` cells: filled what it weighs, hollow what it lost.

    ``scale`` is the weight that would fill the whole width; by default ``before``.
    """
    scale = max(scale or before, 1)
    outline = max(1, round(width * before / scale)) if before else 0
    filled = min(outline, round(width * now / scale)) if now else 0
    if before and now:
        filled = max(1, filled)
    bar = Text("█" * filled, style=PLUM)
    bar.append("░" * (outline - filled), style=LEAF)
    bar.append(" " * (width - outline))
    return bar


def duration(seconds: float | None) -> str:
    """``3 min 20 s``; a dash when unknown."""
    if seconds is None:
        return "–"
    whole = timedelta(seconds=round(seconds))
    hours, rest = divmod(int(whole.total_seconds()), 3600)
    minutes, secs = divmod(rest, 60)
    if hours:
        return f"{hours} h {minutes:02d} min"
    return f"{minutes} min {secs:02d} s" if minutes else f"{secs} s"


def points(score: float | None) -> str:
    """A score with one decimal."""
    return "–" if score is None else f"{score:.1f}"
