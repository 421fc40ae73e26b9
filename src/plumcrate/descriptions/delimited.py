"""Reading and writing CSV (RFC 4180) as spreadsheets have it: other separators, other encodings, formulas.

A file costs memory for one row at a time, whatever it holds.
"""

from __future__ import annotations

import codecs
import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from typing import BinaryIO

from plumcrate.refusal import Refusal

_LONGEST_LINE = 1_000_000
_WIDE = (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
_SEPARATORS = ",;\t"
#: A spreadsheet takes a cell that begins so, wide forms too, for a formula (OWASP, CSV injection). Every cell
#: stands in quotes, so that none begins within another where a spreadsheet parts cells by other characters.
_FORMULA = ("=", "+", "-", "@", "＝", "＋", "－", "＠")


def rows_of(file: BinaryIO) -> Iterator[tuple[int, list[str]]]:
    """Each row with the number of its last line: UTF-8 or UTF-16 by their mark, else UTF-8, and Windows-1252
    for lines that are none. The first line tells what separates cells.

    Raises :class:`Refusal` ``invalid-request`` for a line or a cell that is too long.
    """
    lines = _lines(file)
    first = next(lines, None)
    if first is None:
        return
    separator = max(_SEPARATORS, key=first.count)

    def again() -> Iterator[str]:
        yield first
        yield from lines

    reader = csv.reader(again(), delimiter=separator)
    while True:
        try:
            row = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            raise Refusal(
                "invalid-request",
                f"line {reader.line_num} cannot be read as CSV ({error}): a quotation mark may be missing "
                "before it",
            ) from None
        yield reader.line_num, [_unguarded(cell) for cell in row]


def _lines(file: BinaryIO) -> Iterator[str]:
    start = file.read(3)
    file.seek(0)
    if start[:2] in _WIDE:
        wide = io.TextIOWrapper(file, "utf-16", "replace", newline="\n")
        try:
            while line := wide.readline(_LONGEST_LINE):
                yield _ended(line)
        finally:
            wide.detach()
        return
    if start == codecs.BOM_UTF8:
        file.seek(3)
    while raw := file.readline(_LONGEST_LINE):
        try:
            yield _ended(raw.decode())
        except UnicodeDecodeError:
            yield _ended(raw.decode("cp1252", "replace"))


def _ended(line: str) -> str:
    if len(line) >= _LONGEST_LINE and not line.endswith("\n"):
        raise Refusal("invalid-request", f"a line is longer than {_LONGEST_LINE:,} bytes: this is no table")
    return line


def column_of(heading: Sequence[str], names: Iterable[str]) -> int | None:
    """The place of the column that has one of these names; the first name that is there counts."""
    known = [" ".join(cell.replace("_", " ").replace("-", " ").split()).casefold() for cell in heading]
    return next((known.index(name) for name in names if name in known), None)


def written(row: Sequence[str]) -> str:
    """One line, with nothing that a spreadsheet would run."""
    out = io.StringIO()
    csv.writer(out, quoting=csv.QUOTE_ALL, lineterminator="\r\n").writerow([_guarded(cell) for cell in row])
    return out.getvalue()


def _guarded(cell: str) -> str:
    return f"'{cell}" if cell.lstrip().startswith((*_FORMULA, "'")) else cell


def _unguarded(cell: str) -> str:
    return cell[1:] if cell[:1] == "'" and cell[1:].lstrip().startswith((*_FORMULA, "'")) else cell
