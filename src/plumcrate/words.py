"""Bytes and savings as they are written for people, in the terminal and in reports."""

from __future__ import annotations


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
