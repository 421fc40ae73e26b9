"""How things look in a terminal: bytes, per cent, and the slat.

A slat is a bar whose outline is what something weighed and whose filled part is what it weighs now.
"""

from __future__ import annotations

from datetime import timedelta

from rich.text import Text

PLUM, LEAF, CLAY, QUIET = "magenta", "green", "yellow", "bright_black"


def plain(text: str) -> str:
    """A text from elsewhere without anything that a terminal obeys."""
    return "".join(one if one.isprintable() or one == "\n" else f"\\x{ord(one):02x}" for one in text)


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
