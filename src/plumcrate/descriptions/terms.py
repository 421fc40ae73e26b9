"""Search terms: what people search a site for, from a CSV; against them texts are held."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import BinaryIO

from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.descriptions import ImportFault, SearchTerm, TermsTaken
from plumcrate.records.tables import Library
from plumcrate.records.tables import SearchTerm as Row

from .delimited import column_of, rows_of
from .rules import Terms, words_of

MOST_TERMS = 50_000
_LONGEST, _BATCH, _FAULTS = 200, 2_000, 20
_TERM = ("term", "query", "keyword", "search term", "search", "suchbegriff", "requête")
_COUNT = ("count", "clicks", "searches", "impressions", "anzahl", "number")


def take_terms(session: Session, library: Library, file: BinaryIO) -> TermsTaken:
    """Replaces a library's terms. The first line names the columns, or holds a term and its count.

    A line that cannot be used is refused by itself; terms that stand twice are added up. Raises
    :class:`~plumcrate.refusal.Refusal` where no column holds terms."""
    taken = TermsTaken(terms=0)
    counts: dict[str, int] = {}
    for number, term, count in _read(file):
        words = words_of(term)
        if not words or len(term) > _LONGEST or (len(counts) >= MOST_TERMS and term not in counts):
            taken.refused += 1
            if len(taken.faults) < _FAULTS:
                why = (
                    "it holds no word"
                    if not words
                    else f"it is longer than {_LONGEST} characters"
                    if len(term) > _LONGEST
                    else f"{MOST_TERMS:,} terms are kept at most"
                )
                taken.faults.append(ImportFault(line=number, text=why))
            continue
        counts[term] = min(counts.get(term, 0) + count, 2**62)
    session.execute(delete(Row).where(Row.library_id == library.id))
    rows = iter(counts.items())
    while batch := list(islice(rows, _BATCH)):
        session.execute(
            insert(Row),
            [
                {"library_id": library.id, "term": term, "count": count, "words": sorted(set(words_of(term)))}
                for term, count in batch
            ],
        )
    taken.terms = len(counts)
    return taken


def _read(file: BinaryIO) -> Iterator[tuple[int, str, int]]:
    rows = rows_of(file)
    first = next(rows, None)
    if first is None:
        return
    term, count = column_of(first[1], _TERM), column_of(first[1], _COUNT)
    if term is None:
        term, count = 0, 1
        yield from _row(first[0], first[1], term, count)
    for number, cells in rows:
        yield from _row(number, cells, term, count)


def _row(number: int, cells: list[str], term: int, count: int | None) -> Iterator[tuple[int, str, int]]:
    if not any(cells):
        return
    text = " ".join(cells[term].split()).casefold() if term < len(cells) else ""
    digits = "".join(cells[count].split()) if count is not None and count < len(cells) else ""
    digits = digits.replace(",", "").replace(".", "")
    yield number, text, int(digits) if digits.isascii() and digits.isdigit() and len(digits) < 16 else 0


def terms_of(session: Session, library_id: int) -> Terms:
    """All terms of a library."""
    return Terms.of(list(session.scalars(select(Row.words).where(Row.library_id == library_id))))


def terms_in(session: Session, library_id: int, text: str) -> Terms:
    """Those that stand in a text."""
    words = sorted(set(words_of(text)))
    if not words:
        return Terms()
    found = select(Row.words).where(Row.library_id == library_id, Row.words.contained_by(words))
    return Terms.of(list(session.scalars(found)))


def terms_view(session: Session, library: Library) -> list[SearchTerm]:
    """The most searched first."""
    rows = session.scalars(
        select(Row).where(Row.library_id == library.id).order_by(Row.count.desc(), Row.term).limit(500)
    )
    return [SearchTerm(term=row.term, count=row.count) for row in rows]
