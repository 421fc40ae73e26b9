"""Descriptions out to files and in from them: CSV for spreadsheets, XLIFF for translators."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import BinaryIO

from pydantic import TypeAdapter, ValidationError
from sqlalchemy import and_, select
from sqlalchemy.orm import Session, aliased

from plumcrate.contract.descriptions import ImportFault, ImportResult, Language, TextField, Texts
from plumcrate.contract.pictures import FileState
from plumcrate.records.database import Database
from plumcrate.records.queries.cursors import is_text
from plumcrate.records.tables import Description, DescriptionChange, File, Library, Picture
from plumcrate.refusal import Refusal

from . import delimited, xliff
from .changing import NewTexts, begin_change, differences, end_change, tidied, write
from .known import texts_of
from .terms import terms_of

_BATCH, _EXAMPLES, _FAULTS = 1_000, 40, 20
_COLUMNS = ("path", "language", *TextField, "decorative")
_PATH = ("path", "file", "file name", "filename", "picture", "image", "address")
_FIELDS: dict[TextField, tuple[str, ...]] = {
    TextField.ALTERNATIVE: ("alternative", "alternative text", "alt text", "alt", "alttext"),
    TextField.TITLE: ("title",),
    TextField.CAPTION: ("caption",),
    TextField.CREDIT: ("credit",),
}
_YES, _NO = ("yes", "true", "1", "x", "ja", "oui"), ("no", "false", "0", "nein", "non", "")
_LANGUAGE: TypeAdapter[str] = TypeAdapter(Language)


def as_csv(database: Database, library: Library, language: str) -> Iterator[bytes]:
    """Every picture with its texts, described or not."""
    yield "\ufeff".encode() + delimited.written(_COLUMNS).encode()
    for batch in _batches(database, library.id, language, language):
        lines = []
        for path, row, _ in batch:
            texts = texts_of(row)
            cells = [getattr(texts, name) for name in TextField]
            lines.append(delimited.written([path, language, *cells, "yes" if texts.decorative else "no"]))
        yield "".join(lines).encode()


def as_xliff(database: Database, library: Library, source: str, target: str) -> Iterator[bytes]:
    """Every picture that is described in one language, with what is said of it in the other."""
    yield xliff.opening(source, target).encode()
    number = 0
    for batch in _batches(database, library.id, source, target):
        files = []
        for path, row, other in batch:
            number += 1
            files.append(xliff.written(number, xliff.Translated(path, _said(row), _said(other))))
        yield "".join(files).encode()
    yield xliff.CLOSING.encode()


def _said(row: Description | None) -> dict[TextField, str]:
    return {} if row is None else {name: getattr(row, name) for name in TextField}


def _batches(
    database: Database, library_id: int, source: str, target: str
) -> Iterator[list[tuple[str, Description | None, Description | None]]]:
    """Pictures by path with their descriptions in two languages."""
    one, other = aliased(Description), aliased(Description)
    last = ""
    while True:
        with database.reading() as session:
            rows = session.execute(
                select(Picture.path, one, other)
                .outerjoin(one, and_(one.picture_id == Picture.id, one.language == source))
                .outerjoin(other, and_(other.picture_id == Picture.id, other.language == target))
                .where(Picture.library_id == library_id, Picture.state != FileState.GONE, Picture.path > last)
                .order_by(Picture.path)
                .limit(_BATCH)
            ).all()
        if not rows:
            return
        last = rows[-1][0]
        yield [(path, source_row, target_row) for path, source_row, target_row in rows]


@dataclass
class _Line:
    """What a file says of one picture. ``said``: only what it says something of."""

    number: int
    path: str
    language: str
    said: dict[str, str | bool]


@dataclass
class _Taking:
    """An import under way."""

    session: Session
    library: Library
    by: str
    preview: bool
    result: ImportResult = field(default_factory=ImportResult)
    changes: dict[str, DescriptionChange] = field(default_factory=dict)

    def refuse(self, number: int, why: str) -> None:
        self.result.refused += 1
        if len(self.result.faults) < _FAULTS:
            self.result.faults.append(ImportFault(line=number, text=why))

    def take(self, lines: Iterator[_Line]) -> ImportResult:
        terms = terms_of(self.session, self.library.id)
        while batch := list(islice(lines, _BATCH)):
            self.result.rows += len(batch)
            for language in dict.fromkeys(line.language for line in batch):
                new = self._new([line for line in batch if line.language == language], language)
                self.result.changed += len(new)
                for one in new[: max(0, _EXAMPLES - len(self.result.examples))]:
                    self.result.examples += differences(one)
                if new and not self.preview:
                    write(self.session, self.library, language, new, self._change(language), terms)
            self.session.expire_all()
        for change in self.changes.values():
            self.result.changes.append(change.id)
            end_change(self.session, self.library, change)
        return self.result

    def _change(self, language: str) -> DescriptionChange:
        if language not in self.changes:
            made = begin_change(self.session, self.library, language, "imported a file", self.by)
            self.changes[language] = made
        return self.changes[language]

    def _new(self, lines: Sequence[_Line], language: str) -> list[NewTexts]:
        found = self._pictures([line.path for line in lines])
        ids = sorted({number for number, _ in found.values()})
        locked = select(Picture.id).where(Picture.id.in_(ids)).order_by(Picture.id).with_for_update()
        if not self.preview:
            self.session.execute(locked)
        rows = {
            row.picture_id: texts_of(row)
            for row in self.session.scalars(
                select(Description).where(Description.picture_id.in_(ids), Description.language == language)
            )
        }
        new: dict[int, NewTexts] = {}
        for line in lines:
            if line.path not in found:
                self.refuse(line.number, f"there is no picture {line.path[:200]}")
                continue
            number, path = found[line.path]
            former = new[number].before if number in new else rows.get(number, Texts())
            current = new[number].after if number in new else former
            try:
                after = tidied(Texts.model_validate(current.model_dump() | line.said))
            except ValidationError as error:
                self.refuse(line.number, f"{path}: {error.errors()[0]['msg']}")
                continue
            if after == current:
                self.result.unchanged += 1
            else:
                new[number] = NewTexts(number, path, former, after)
        return list(new.values())

    def _pictures(self, paths: Sequence[str]) -> dict[str, tuple[int, str]]:
        """Number and path of the picture at each path; a path may be that of any of its files."""
        mine = Picture.library_id == self.library.id, Picture.state != FileState.GONE
        by_file = self.session.execute(
            select(File.path, Picture.id, Picture.path)
            .join(Picture, Picture.id == File.picture_id)
            .where(*mine, File.library_id == self.library.id, File.path.in_(paths))
        )
        found = {path: (number, own) for path, number, own in by_file}
        by_path = self.session.execute(select(Picture.path, Picture.id).where(*mine, Picture.path.in_(paths)))
        return found | {path: (number, path) for path, number in by_path}


def take_csv(
    session: Session,
    library: Library,
    file: BinaryIO,
    *,
    language: str,
    by: str,
    preview: bool,
    clear: bool = False,
) -> ImportResult:
    """Takes texts from a table. Columns are found by name; one that is not there changes nothing, and an
    empty cell only with ``clear``. A row that cannot be used is refused by itself.

    Raises :class:`Refusal` where no column holds paths, or none holds texts.
    """
    rows = delimited.rows_of(file)
    _, heading = next(rows, (1, []))
    path = delimited.column_of(heading, _PATH)
    columns = {name: delimited.column_of(heading, names) for name, names in _FIELDS.items()}
    decorative = delimited.column_of(heading, ("decorative",))
    languages = delimited.column_of(heading, ("language", "lang", "locale"))
    if path is None or (decorative is None and not any(at is not None for at in columns.values())):
        wanted = "path" if path is None else "alternative, title, caption, credit or decorative"
        raise Refusal(
            "invalid-request", f"the first line names no column {wanted}; it says: {', '.join(heading)[:200]}"
        )
    taking = _Taking(session, library, by, preview)

    def lines() -> Iterator[_Line]:
        for number, cells in rows:
            if not any(cell.strip() for cell in cells):
                continue

            def cell(at: int | None, cells: list[str] = cells) -> str:
                return cells[at].strip() if at is not None and at < len(cells) else ""

            said: dict[str, str | bool] = {
                str(name): cell(at) for name, at in columns.items() if at is not None and (clear or cell(at))
            }
            answer = cell(decorative).casefold()
            if answer and answer not in (*_YES, *_NO):
                taking.refuse(number, f"decorative is yes or no, not {answer[:60]}")
                continue
            if answer:
                said["decorative"] = answer in _YES
            try:
                tongue = _LANGUAGE.validate_python(cell(languages) or language)
            except ValidationError:
                taking.refuse(number, f"{cell(languages)[:60]} is no language's tag, such as en or de-CH")
                continue
            name = cell(path).lstrip("/")
            if not is_text(name):
                taking.refuse(number, "the path holds what no path may hold")
                continue
            yield _Line(number, name, tongue, said)

    return taking.take(lines())


def take_xliff(session: Session, library: Library, file: BinaryIO, *, by: str, preview: bool) -> ImportResult:
    """Takes translations. Raises :class:`Refusal` for what is no XLIFF 2, or names no language."""
    source, target, pictures = xliff.read(file)
    try:
        language = _LANGUAGE.validate_python(target)
    except ValidationError:
        raise Refusal("invalid-request", f"{target[:60]} (trgLang) is no language's tag") from None
    taking = _Taking(session, library, by, preview)
    stale = 0

    def lines() -> Iterator[_Line]:
        nonlocal stale
        for number, picture in enumerate(pictures, 1):
            said: dict[str, str | bool] = {str(name): text for name, text in picture.targets.items() if text}
            if said and is_text(picture.path):
                stale += _is_stale(session, library, source, picture)
                yield _Line(number, picture.path, language, said)

    result = taking.take(lines())
    if stale:
        result.notes.append(
            f"of {stale:,} pictures the text in {source} has changed since the file was written: look at "
            "these translations again"
        )
    return result


def _is_stale(session: Session, library: Library, source: str, picture: xliff.Translated) -> bool:
    row = session.scalar(
        select(Description)
        .join(Picture, Picture.id == Description.picture_id)
        .where(Picture.library_id == library.id, Picture.path == picture.path, Description.language == source)
    )
    now = _said(row)
    return any(text and now.get(name, "") != text for name, text in picture.sources.items())
