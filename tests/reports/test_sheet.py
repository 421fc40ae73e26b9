"""A report drawn as PDF: what it says, whatever names hold, and nothing that a reader would carry out."""

import io
import logging
import re
import zlib
from datetime import UTC, date, datetime
from typing import Any

import pypdfium2
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

from plumcrate.contract.delivery import Sent
from plumcrate.contract.reports import PageWeight, ReportPicture, SavingsReport
from plumcrate.contract.savings import Slat
from plumcrate.reports.paper import HEIGHT, MARGIN, WIDTH
from plumcrate.reports.sheet import month, period, sheet
from plumcrate.reports.table import table

AT = datetime(2026, 11, 26, 12, 0, tzinfo=UTC)
HOSTILE = [
    "=cmd|'/c calc'!A1",
    "\t=1",
    "a\nb\r",
    "/Type /JavaScript (app.alert\\(1\\))",
    "(){}[]<<>>\\",
    "\u202egpj.exe",
    "日本語の名前",
    "Маяк на рифе Ναός",
    "x" * 3000,
    "🐦 gull",
    "\x1b[31m",
    "<script>",
    "{nb}",
    "**bold** __x__",
    ") Tj ET endstream endobj",
    "%PDF-1.7",
    "",
]


def slat(name: str, files: int = 1) -> Slat:
    return Slat(
        name=name, files=files, bytes_before=1000 * files, bytes_now=500 * files, bytes_lightest=300 * files
    )


def report_of(name: str = "Ledge", **more: Any) -> SavingsReport:
    whole = {
        "library": "ledge",
        "name": name,
        "client": "Gannet Ledge Light Trust",
        "sender": "Quayside Web",
        "begins": "2026-03",
        "ends": "2026-11",
        "first_day": date(2026, 3, 1),
        "last_day": date(2026, 11, 30),
        "time_zone": "UTC",
        "made_at": AT,
        "pictures": 5,
        "treated": slat("treated files", 9),
        "whole": slat("all", 12),
        "copies": 3,
        "bytes_copies": 900,
        "by_month": [slat("2026-03", 9)],
        "by_format": [slat("jpeg", 8), slat("webp", 1)],
        "by_folder": [slat("2026/03", 9)],
        "sent": Sent(),
        "sent_by_month": [],
        "best": [],
        "worst": [],
        "pages": [],
    }
    return SavingsReport.model_validate(whole | more)


def picture_of(path: str, number: int = 1) -> ReportPicture:
    return ReportPicture(
        picture_id=number,
        file_id=number,
        path=path,
        bytes_before=100,
        bytes_now=90,
        bytes_lightest=80,
        worst=57.6,
    )


def page_of(address: str) -> PageWeight:
    return PageWeight(
        address=address,
        device="phone",
        first_at=AT,
        latest_at=AT,
        picture_bytes_first=900_000,
        picture_bytes_latest=200_000,
        lcp_first=1.25,
        lcp_latest=None,
    )


def texts(data: bytes) -> list[str]:
    """The text of each page."""
    document = pypdfium2.PdfDocument(data)
    return [document[number].get_textpage().get_text_range() for number in range(len(document))]


def streams(data: bytes) -> bytes:
    """All that stands in the file, unpacked."""
    plain = data
    for found in re.finditer(rb"stream\r?\n(.*?)\r?\nendstream", data, re.DOTALL):
        try:
            plain += zlib.decompress(found.group(1))
        except zlib.error:
            continue
    return plain


def test_it_says_what_the_report_says() -> None:
    sent = Sent(name="2026-03", requests=30, bytes=1_000_000, bytes_before=5_000_000)
    data = sheet(
        report_of(
            sent=sent,
            sent_by_month=[sent],
            best=[picture_of("a/best.jpg")],
            worst=[picture_of("a/worst.jpg", 2)],
            pages=[page_of("https://ledge.example/visit?x=1")],
        ),
        {},
    )
    said = " ".join(" ".join(texts(data)).split())
    for words in (
        "Quayside Web",
        "For Gannet Ledge Light Trust",
        "Ledge · March to November 2026",
        "9.00 kB are 4.50 kB now; a modern browser fetches 2.70 kB.",
        "−70 %",
        "pictures, in 9 files",
        "March 2026",
        "JPEG",
        "WebP",
        "2026/03",
        "4.00 MB",
        "ledge.example/visit",
        "900 kB",
        "200 kB",
        "1.25 s",
        "best.jpg",
        "worst place 58 of 100",
        "26 November 2026",
    ):
        assert words in said, words
    assert pypdfium2.PdfDocument(data).get_metadata_dict()["Title"] == (
        "Gannet Ledge Light Trust: March to November 2026"
    )


def test_the_same_report_is_the_same_file() -> None:
    assert sheet(report_of(), {}) == sheet(report_of(), {})


def test_nothing_treated_is_said_and_no_empty_part_is_drawn() -> None:
    (page,) = texts(sheet(report_of(treated=slat("t", 0), by_month=[], by_format=[], by_folder=[]), {}))
    assert "No file was treated in these months." in page
    assert "By month" not in page


def test_many_rows_go_on_on_further_pages_within_their_margins() -> None:
    folders = [slat(f"folder-{number}", number + 1) for number in range(90)]
    data = sheet(report_of(by_folder=folders, best=[picture_of(f"p{n}.jpg", n) for n in range(30)]), {})
    document = pypdfium2.PdfDocument(data)
    assert len(document) > 3
    said = "\n".join(texts(data))
    assert [name for name in (f"folder-{number}" for number in range(90)) if name not in said] == []
    for number in range(len(document)):
        for placed in document[number].get_objects():
            left, bottom, right, top = (value / 72 * 25.4 for value in placed.get_bounds())
            assert left >= MARGIN - 1
            assert right <= WIDTH - MARGIN + 1
            assert bottom >= 5
            assert top <= HEIGHT - 5


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_names_are_text_and_nothing_else(name: str, caplog: pytest.LogCaptureFixture) -> None:
    with caplog.at_level(logging.WARNING):
        data = sheet(
            report_of(
                name,
                client=name,
                sender=name,
                by_folder=[slat(name)],
                by_format=[slat(name)],
                best=[picture_of(name)],
                pages=[page_of(f"https://ledge.example/{name}")],
            ),
            {},
        )
    assert caplog.records == [], "no character is left out in silence"
    everything = streams(data)
    for word in (b"/JavaScript", b"/Launch", b"/URI", b"/OpenAction <<", b"/EmbeddedFile", b"/AA"):
        assert word not in re.sub(rb"\([^)]*\)", b"", everything.replace(b"\\)", b"").replace(b"\\(", b""))
    document = pypdfium2.PdfDocument(data)
    assert len(document) >= 1
    for number in range(len(document)):
        for placed in document[number].get_objects():
            assert placed.get_bounds()[2] / 72 * 25.4 <= WIDTH - MARGIN + 1, "it ends at the margin"
    list(table(report_of(name, client=name)))


@settings(suppress_health_check=[HealthCheck.too_slow])
@given(st.text(max_size=200), st.text(max_size=200))
def test_any_text_makes_a_file_that_opens(one: str, two: str) -> None:
    data = sheet(report_of(client=one, by_folder=[slat(two)], best=[picture_of(two)]), {})
    assert len(texts(data)) >= 1


def test_pictures_are_drawn_and_one_that_is_missing_leaves_its_place() -> None:
    written = io.BytesIO()
    Image.new("RGBA", (60, 40), (200, 30, 30, 120)).save(written, "WEBP")
    data = sheet(report_of(best=[picture_of("a.jpg", 1), picture_of("b.jpg", 2)]), {1: written.getvalue()})
    document = pypdfium2.PdfDocument(data)
    kinds = [placed.type for number in range(len(document)) for placed in document[number].get_objects()]
    assert kinds.count(pypdfium2.raw.FPDF_PAGEOBJ_IMAGE) == 1
    assert "b.jpg" in " ".join(texts(data))


def test_months_are_spoken() -> None:
    assert month("2026-01") == "January 2026"
    assert period(report_of(begins="2026-11")) == "November 2026"
    assert period(report_of(begins="2025-12", ends="2026-01")) == "December 2025 to January 2026"
