"""A report, drawn as PDF."""

from __future__ import annotations

import calendar
from collections.abc import Callable, Mapping, Sequence
from urllib.parse import urlsplit

from plumcrate.contract.reports import PageWeight, ReportPicture, SavingsReport
from plumcrate.contract.savings import Slat
from plumcrate.words import saved, size

from .paper import CLAY, HUES, INK, INNER, LEAF, MARGIN, QUIET, Paper

_BAR = 46.0  # the width of a row's slat
_ACROSS = 3


def sheet(report: SavingsReport, pictures: Mapping[int, bytes]) -> bytes:
    """The report as PDF. ``pictures``: small ones by the number of their file."""
    paper = Paper(
        f"{report.client}: {period(report)}",
        f"{report.name} · made with Plum Crate on {_day(report)} · months of {report.time_zone}",
        report.made_at,
    )
    _head(paper, report)
    _slats(paper, "By month", "Files by the month in which they were treated", report.by_month, month)
    _slats(
        paper, "By format", "The format that a file has in its folder", report.by_format, _format, hues=True
    )
    _slats(paper, "By folder", "", report.by_folder, _folder)
    _sent(paper, report)
    _pages(paper, report.pages)
    _shown(
        paper,
        "Lighter by most",
        "What a modern browser fetches, against what it had to fetch before",
        report.best,
        pictures,
    )
    _shown(
        paper,
        "Changed most",
        "By their worst place; at 100 no change can be seen",
        report.worst,
        pictures,
        worst=True,
    )
    return bytes(paper.output())


def period(report: SavingsReport) -> str:
    """The months, as they are spoken."""
    first, last = month(report.begins), month(report.ends)
    if report.begins == report.ends:
        return first
    if report.begins[:4] == report.ends[:4]:
        first = first.rpartition(" ")[0]
    return f"{first} to {last}"


def month(name: str) -> str:
    """2026-11 as November 2026."""
    year, number = name.split("-")
    return f"{calendar.month_name[int(number)]} {year}"


def _day(report: SavingsReport) -> str:
    return f"{report.made_at.day} {calendar.month_name[report.made_at.month]} {report.made_at.year}"


def _head(paper: Paper, report: SavingsReport) -> None:
    y = MARGIN
    if report.sender:
        y += paper.put(report.sender, MARGIN, y, INNER, size=9, font="strong", colour=QUIET) + 3
    y += paper.put("How light the pictures became", MARGIN, y, INNER, size=24, font="head")
    y += paper.put(f"For {report.client}", MARGIN, y, INNER, size=13, font="strong")
    of = period(report) if report.name == report.client else f"{report.name} · {period(report)}"
    y += paper.put(of, MARGIN, y, INNER, size=10, colour=QUIET) + 5
    whole = report.treated
    if not whole.files:
        y += paper.put("No file was treated in these months.", MARGIN, y, INNER, size=11)
        paper.set_y(y)
        return
    paper.slat(
        MARGIN,
        y,
        INNER,
        12,
        whole.bytes_before,
        whole.bytes_now,
        whole.bytes_lightest,
        whole.bytes_before,
    )
    y += 14
    words = (
        f"{size(whole.bytes_before)} are {size(whole.bytes_now)} now; a modern browser fetches "
        f"{size(whole.bytes_lightest)}."
    )
    y += paper.put(words, MARGIN, y, INNER, size=11) + 4
    figures = [
        (saved(whole.bytes_before, whole.bytes_lightest), "lighter for a modern browser"),
        (f"{report.pictures:,}", f"pictures, in {whole.files:,} file{'' if whole.files == 1 else 's'}"),
        (f"{report.copies:,}", "copies in modern formats"),
    ]
    if report.sent.requests:
        spared = max(0, report.sent.bytes_before - report.sent.bytes)
        figures.append((size(spared), "less for visitors to fetch"))
    if report.described:
        share = report.described * 100 // report.all_pictures
        figures.append((f"{share} %", "of all pictures are described"))
    width = INNER / len(figures)
    for at, (figure, of) in enumerate(figures):
        x = MARGIN + at * width
        paper.put(figure, x, y, width, size=19, font="head", colour=LEAF if at == 0 else INK)
        paper.put(of, x, y + 9, width, size=8, colour=QUIET)
    paper.set_y(y + 15)


def _slats(
    paper: Paper,
    title: str,
    under: str,
    slats: Sequence[Slat],
    name: Callable[[str], str],
    *,
    hues: bool = False,
) -> None:
    if not slats:
        return
    paper.heading(title, under)
    scale = max(slat.bytes_before for slat in slats)
    rows = [
        (
            name(slat.name),
            f"{slat.files:,}",
            size(slat.bytes_before),
            size(slat.bytes_now),
            size(slat.bytes_lightest),
            saved(slat.bytes_before, slat.bytes_lightest),
        )
        for slat in slats
    ]

    def draw(number: int, x: float, y: float) -> None:
        slat = slats[number]
        paper.slat(
            x + 4,
            y + 0.8,
            _BAR - 4,
            3.2,
            slat.bytes_before,
            slat.bytes_now,
            slat.bytes_lightest,
            scale,
            slat.name if slat.name in HUES else ("other" if hues else "jpeg"),
        )

    paper.rows(
        ("", "files", "before", "now", "lightest", "saved"),
        (INNER - _BAR - 84, 14, 18, 18, 18, 16),
        rows,
        draw,
    )


def _format(name: str) -> str:
    return "WebP" if name == "webp" else name.upper()


def _folder(name: str) -> str:
    return name or "the folder itself"


def _sent(paper: Paper, report: SavingsReport) -> None:
    if not report.sent.requests:
        return
    paper.heading("What visitors were sent", "Against what the same requests would have weighed before")
    rows = [
        (
            month(sent.name),
            f"{sent.requests:,}",
            size(sent.bytes_before),
            size(sent.bytes),
            saved(sent.bytes_before, sent.bytes),
        )
        for sent in report.sent_by_month
    ]
    scale = max((sent.bytes_before for sent in report.sent_by_month), default=0)

    def draw(number: int, x: float, y: float) -> None:
        sent = report.sent_by_month[number]
        paper.slat(x + 4, y + 0.8, _BAR - 4, 3.2, sent.bytes_before, sent.bytes, sent.bytes, scale, "webp")

    paper.rows(("", "requests", "before", "sent", "saved"), (INNER - _BAR - 78, 22, 20, 20, 16), rows, draw)


def _pages(paper: Paper, pages: Sequence[PageWeight]) -> None:
    if not pages:
        return
    paper.heading(
        "Pages, weighed", "Their pictures, and when their largest part was painted: at first and at last"
    )
    rows = [
        (
            _address(page),
            page.device,
            size(page.picture_bytes_first),
            size(page.picture_bytes_latest),
            saved(page.picture_bytes_first, page.picture_bytes_latest),
            _seconds(page.lcp_first),
            _seconds(page.lcp_latest),
        )
        for page in pages
    ]
    heads = ("", "on", "pictures before", "now", "saved", "painted before", "now")
    paper.rows(heads, (INNER - 116, 18, 24, 18, 16, 24, 16), rows)


def _address(page: PageWeight) -> str:
    parts = urlsplit(page.address)
    return f"{parts.netloc}{parts.path}"


def _seconds(value: float | None) -> str:
    return "–" if value is None else f"{value:.2f} s"


def _shown(
    paper: Paper,
    title: str,
    under: str,
    shown: Sequence[ReportPicture],
    pictures: Mapping[int, bytes],
    *,
    worst: bool = False,
) -> None:
    if not shown:
        return
    gap, high = 5.0, 38.0
    width = (INNER - gap * (_ACROSS - 1)) / _ACROSS
    paper.heading(title, under, need=high + 12)
    for begin in range(0, len(shown), _ACROSS):
        paper.room(high + 14)
        y = paper.y
        for at, one in enumerate(shown[begin : begin + _ACROSS]):
            x = MARGIN + at * (width + gap)
            paper.picture(pictures.get(one.file_id), x, y, width, high)
            paper.put(one.path, x, y + high + 1, width, size=8, middle=True)
            if worst:
                said, colour = f"worst place {one.worst or 0:.0f} of 100", CLAY
            else:
                said, colour = saved(one.bytes_before, one.bytes_lightest), LEAF
            said += f" · {size(one.bytes_before)} to {size(one.bytes_lightest)}"
            paper.put(said, x, y + high + 5, width, size=8, colour=colour)
        paper.set_y(y + high + 12)
