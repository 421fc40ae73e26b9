"""Lines of CSV: read back as they were, and obeyed by no spreadsheet."""

import csv
import io
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.csv_lines import harmless, line

ANY = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=40)


def read(text: str, delimiter: str = ",") -> list[str]:
    (row,) = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    return row


#: Signs that may part fields where a spreadsheet is set up for another language, or is asked to.
SEPARATORS = ",;\t|"
HOSTILE = st.text("=+-@＝;\t| \n\r\"',x1", max_size=12)


@given(st.lists(ANY | HOSTILE, min_size=1, max_size=6))
def test_text_is_read_back(values: list[str]) -> None:
    assert [field.replace("'", "") for field in read(line(values))] == [
        value.replace("'", "") for value in values
    ]


@given(st.lists(ANY | HOSTILE, min_size=1, max_size=6), st.sampled_from(SEPARATORS))
def test_no_field_begins_a_formula_whatever_parts_fields(values: list[str], separator: str) -> None:
    for row in csv.reader(io.StringIO(line(values), newline=""), delimiter=separator):
        for field in row:
            assert not field.lstrip().startswith(("=", "+", "-", "@", "＝", "＋", "－", "＠")), field


@pytest.mark.parametrize(
    ("value", "written"),
    [
        (None, ""),
        (12, 12),
        (-1.5, -1.5),
        ("=1", "'=1"),
        ("  @x", "  '@x"),
        ("a;=1|@", "a;'=1|'@"),
        ("\t1", "'\t1"),
        ("a=1", "a=1"),
        (True, "True"),
        ('x;"=1', "x;\"'=1"),
        (datetime(2026, 6, 1, tzinfo=UTC), "2026-06-01T00:00:00+00:00"),
    ],
)
def test_what_is_written_for_what(value: object, written: object) -> None:
    assert harmless(value) == written
