"""Descriptions leave as CSV and XLIFF and come back; files that are odd are refused in words."""

from __future__ import annotations

import contextlib
import csv
import io
import tempfile
from pathlib import Path

import pytest
from conftest import add_library, add_pictures
from defusedxml.ElementTree import fromstring
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import select

from plumcrate.contract.descriptions import ImportResult, Texts
from plumcrate.descriptions import delimited, xliff
from plumcrate.descriptions.changing import save, undo
from plumcrate.descriptions.exchange import as_csv, as_xliff, take_csv, take_xliff
from plumcrate.descriptions.terms import take_terms, terms_view
from plumcrate.records.database import Database
from plumcrate.records.tables import Description, Library, Picture
from plumcrate.refusal import Refusal


@pytest.fixture
def ledge(database: Database, tmp_path: Path) -> Database:
    add_library(database, tmp_path)
    add_pictures(database, 4)
    return database


def take(ledge: Database, table: str | bytes, **more: object) -> ImportResult:
    data = table if isinstance(table, bytes) else table.encode()
    options = {"language": "en", "by": "Ada", "preview": False} | more
    with ledge.begin() as session:
        return take_csv(session, session.get_one(Library, 1), io.BytesIO(data), **options)


def said(ledge: Database, language: str = "en") -> dict[int, str]:
    with ledge.begin() as session:
        rows = session.scalars(select(Description).where(Description.language == language))
        return {row.picture_id: row.alternative for row in rows}


def library(ledge: Database) -> Library:
    with ledge.begin() as session:
        return session.get_one(Library, 1)


def test_a_table_comes_back_as_it_left(ledge: Database) -> None:
    texts = ["=1+1", '\'quoted, "and" more', "–", "Übersicht; alt"]
    with ledge.begin() as session:
        for number, text in enumerate(texts, 1):
            picture = session.get_one(Picture, number)
            save(session, session.get_one(Library, 1), picture, "en", Texts(alternative=text), "Ada")
    table = b"".join(as_csv(ledge, library(ledge), "en"))
    cells = list(csv.reader(io.StringIO(table.decode("utf-8-sig"))))
    assert cells[0] == ["path", "language", "alternative", "title", "caption", "credit", "decorative"]
    assert all(not cell.startswith(("=", "+", "-", "@")) for row in cells for cell in row), "nothing runs"
    result = take(ledge, table)
    assert (result.rows, result.changed, result.unchanged, result.refused) == (4, 0, 4, 0)
    assert said(ledge) == dict(enumerate(texts, 1))


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
@pytest.mark.parametrize("separator", [",", ";", "\t"])
def test_tables_are_read_as_spreadsheets_write_them(ledge: Database, encoding: str, separator: str) -> None:
    lines = [["Filename", "Alt text"], ["p01.jpg", "Brücke"], ["/p02.jpg", 'a "b"\nc']]
    table = io.StringIO()
    csv.writer(table, delimiter=separator).writerows(lines)
    result = take(ledge, table.getvalue().encode(encoding))
    assert (result.changed, result.refused) == (2, 0)
    assert said(ledge) == {1: "Brücke", 2: 'a "b" c'}


def test_a_row_that_cannot_be_used_is_refused_by_itself(ledge: Database) -> None:
    rows = [
        "path,alternative,decorative,language",
        "p01.jpg,The tower,,",
        "nowhere.jpg,Something,,",
        "p02.jpg,Both,yes,",
        "p03.jpg,,perhaps,",
        "p03.jpg,Sea,,no tongue",
        ",,,",
        f"p04.jpg,{'x' * 2_001},,",
        "p03.jpg,,yes,",
        "p02.jpg,Turm,,de",
    ]
    result = take(ledge, "\n".join(rows))
    assert (result.changed, result.refused) == (3, 5)
    words = " / ".join(fault.text for fault in result.faults)
    for part in ("no picture nowhere.jpg", "decorative picture has no", "not perhaps", "no tongue is no"):
        assert part in words
    assert said(ledge) == {1: "The tower", 3: ""}
    assert said(ledge, "de") == {2: "Turm"}
    assert len(result.changes) == 2, "one for each language"
    with ledge.begin() as session:
        for change in result.changes:
            undo(session, session.get_one(Library, 1), change, "Ada")
    assert set(said(ledge).values()) == {""}


def test_an_empty_cell_empties_a_text_only_when_asked(ledge: Database) -> None:
    take(ledge, "path,alternative,title\np01.jpg,The tower,Tower")
    assert take(ledge, "path,alternative\np01.jpg,").changed == 0
    assert take(ledge, "path,alternative\np01.jpg,", clear=True, preview=True).changed == 1
    assert said(ledge) == {1: "The tower"}
    assert take(ledge, "path,alternative\np01.jpg,", clear=True).changed == 1
    assert said(ledge) == {1: ""}


def test_the_same_picture_twice_ends_with_the_last(ledge: Database) -> None:
    result = take(ledge, "path,alternative\np01.jpg,One\np01.jpg,Two")
    assert result.changed == 1
    assert said(ledge) == {1: "Two"}
    assert [(one.before, one.after) for one in result.examples] == [("", "Two")]


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ("alternative\nThe tower", "no column path"),
        ("path,colour\np01.jpg,red", "no column alternative"),
        ("", "no column path"),
        ("path,alternative\np01.jpg," + "x" * 1_100_000, "a line is longer than"),
        ('path,alternative\np01.jpg,"' + "open\n" * 60_000, "a quotation mark may be missing"),
    ],
)
def test_what_is_no_table_is_refused_in_words(ledge: Database, table: str, words: str) -> None:
    with pytest.raises(Refusal, match=words):
        take(ledge, table)
    assert said(ledge) == {}


@given(st.binary(max_size=2_000))
def test_any_bytes_are_rows_or_a_refusal(data: bytes) -> None:
    with contextlib.suppress(Refusal):
        for line, row in delimited.rows_of(io.BytesIO(data)):
            assert line >= 1
            assert all(isinstance(cell, str) for cell in row)


@given(st.lists(st.text(alphabet=st.characters(exclude_categories=["Cs", "Cc"])), min_size=1, max_size=5))
def test_cells_come_back_as_they_were_written(row: list[str]) -> None:
    first = delimited.written(["path", *("x" for _ in row[1:])])
    table = io.BytesIO((first + delimited.written(row)).encode())
    found = [cells for _, cells in delimited.rows_of(table)]
    assert found[1:] == ([row] if row != [""] else found[1:])


def test_translations_leave_and_come_back(ledge: Database) -> None:
    take(ledge, "path,alternative,title\np01.jpg,Sea & <sky>,Sea\np02.jpg,Tower,")
    file = b"".join(as_xliff(ledge, library(ledge), "en", "de"))
    root = fromstring(file)
    assert (root.get("version"), root.get("srcLang"), root.get("trgLang")) == ("2.1", "en", "de")
    assert [one.get("original") for one in root] == ["p01.jpg", "p02.jpg"]
    translated = file.replace(b"</source>", b"</source><target>Meer &amp; Turm</target>")
    with ledge.begin() as session:
        result = take_xliff(
            session, session.get_one(Library, 1), io.BytesIO(translated), by="Ben", preview=False
        )
    assert (result.rows, result.changed, result.refused, result.notes) == (2, 2, 0, [])
    assert said(ledge, "de") == {1: "Meer & Turm", 2: "Meer & Turm"}
    again = b"".join(as_xliff(ledge, library(ledge), "en", "de"))
    assert again.count(b"<target>Meer &amp; Turm</target>") == 3
    take(ledge, "path,alternative\np01.jpg,Another text")
    with ledge.begin() as session:
        result = take_xliff(
            session, session.get_one(Library, 1), io.BytesIO(translated), by="Ben", preview=True
        )
    assert "of 1 pictures the text in en has changed" in result.notes[0]


@pytest.mark.parametrize(
    ("file", "words"),
    [
        (b"", "cannot be read as XML"),
        (b"<html/>", "is no XLIFF 2"),
        (b'<xliff xmlns="urn:oasis:names:tc:xliff:document:2.0" version="2.1"/>', "trgLang"),
        (b'<!DOCTYPE x [<!ENTITY a "b">]><x>&a;</x>', "entities or a document type"),
        (b'<xliff xmlns="urn:oasis:names:tc:xliff:document:2.0" trgLang="no tongue"/>', "no language's tag"),
        (xliff.opening("en", "de").encode() + b"<file original='p01.jpg'>", "cannot be read as XML"),
    ],
)
def test_what_is_no_xliff_is_refused_in_words(ledge: Database, file: bytes, words: str) -> None:
    with ledge.begin() as session, pytest.raises(Refusal, match=words):
        take_xliff(session, session.get_one(Library, 1), io.BytesIO(file), by="Ada", preview=False)


def test_elements_that_nest_are_read_once() -> None:
    """Files and units within each other, 2,000 deep: each is emptied as it ends."""
    deep, text = 2_000, "<segment><source>a</source><target>b</target></segment>"
    nested = "<file original='p'>" * deep + "</file>" * deep
    units = "<unit id='title'>" * deep + text + "</unit>" * deep
    body = f"{xliff.opening('en', 'de')}{nested}<file original='q'>{units}</file>{xliff.CLOSING}"
    _, _, pictures = xliff.read(io.BytesIO(body.encode()))
    found = list(pictures)
    assert len(found) == deep + 1
    assert found[-1].path == "q"
    assert "".join(found[-1].targets.values()) in ("", "b"), "the text of one unit is no other's"


def test_wide_tables_are_read_from_what_the_service_spools(ledge: Database) -> None:
    with tempfile.SpooledTemporaryFile(8) as spool, ledge.begin() as session:
        spool.write("path\talternative\np01.jpg\tBrücke\n".encode("utf-16"))
        spool.seek(0)
        library_row = session.get_one(Library, 1)
        result = take_csv(session, library_row, spool, language="en", by="Ada", preview=False)
    assert (result.changed, said(ledge)) == (1, {1: "Brücke"})


def test_search_terms_are_taken_in(ledge: Database) -> None:
    table = "Query;Clicks\nlighthouse;1,200\nLighthouse;3\n???;4\nopen day;many\n" + "x" * 201 + ";1\n"
    with ledge.begin() as session:
        taken = take_terms(session, session.get_one(Library, 1), io.BytesIO(table.encode()))
        assert (taken.terms, taken.refused) == (2, 2)
        found = [(one.term, one.count) for one in terms_view(session, session.get_one(Library, 1))]
        assert found == [("lighthouse", 1_203), ("open day", 0)]
        taken = take_terms(session, session.get_one(Library, 1), io.BytesIO(b"boat trip,5\n"))
        assert taken.terms == 1, "without a heading, and in place of what was there"
