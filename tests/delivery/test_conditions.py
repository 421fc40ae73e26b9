"""Conditional and range requests as a table: what a request says, and the answer that RFC 9110 wants."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.delivery.conditions import Validators, Verdict, judge

#: 6 November 1994 08:49:37 GMT, the standard's own example of a date.
NOW = Validators('"abc"', 784_111_777, 1000)
DATE = "Sun, 06 Nov 1994 08:49:37 GMT"
BEFORE, AFTER = "Sun, 06 Nov 1994 08:49:36 GMT", "Sun, 06 Nov 1994 08:49:38 GMT"
OK, NOT_MODIFIED, FAILED, UNSATISFIABLE = (
    Verdict(200, 0, 999),
    Verdict(304),
    Verdict(412),
    Verdict(416),
)


def part(first: int, last: int) -> Verdict:
    return Verdict(206, first, last)


@pytest.mark.parametrize(
    ("headers", "wanted"),
    [
        ({}, OK),
        # If-None-Match: section 13.1.2, compared weakly
        ({"if-none-match": '"abc"'}, NOT_MODIFIED),
        ({"if-none-match": 'W/"abc"'}, NOT_MODIFIED),
        ({"if-none-match": '"x", "abc"'}, NOT_MODIFIED),
        ({"if-none-match": '"x","y" , W/"abc"'}, NOT_MODIFIED),
        ({"if-none-match": "*"}, NOT_MODIFIED),
        ({"if-none-match": '"x"'}, OK),
        ({"if-none-match": "abc"}, OK),
        ({"if-none-match": '"ab'}, OK),
        ({"if-none-match": '"a,bc"'}, OK),
        ({"if-none-match": ""}, OK),
        ({"if-none-match": '"x",' * 4000 + '"abc"'}, OK),
        # If-Modified-Since: section 13.1.3, passed over beside If-None-Match
        ({"if-modified-since": DATE}, NOT_MODIFIED),
        ({"if-modified-since": AFTER}, NOT_MODIFIED),
        ({"if-modified-since": BEFORE}, OK),
        ({"if-modified-since": "Sunday, 06-Nov-94 08:49:37 GMT"}, NOT_MODIFIED),
        ({"if-modified-since": "Sun Nov  6 08:49:37 1994"}, NOT_MODIFIED),
        ({"if-modified-since": "yesterday"}, OK),
        ({"if-modified-since": "Sun, 99 Nov 1994 08:49:37 GMT"}, OK),
        ({"if-modified-since": ""}, OK),
        ({"if-none-match": '"x"', "if-modified-since": AFTER}, OK),
        ({"if-none-match": '"abc"', "if-modified-since": BEFORE}, NOT_MODIFIED),
        # If-Match: section 13.1.1, compared strongly
        ({"if-match": '"abc"'}, OK),
        ({"if-match": "*"}, OK),
        ({"if-match": '"x", "abc"'}, OK),
        ({"if-match": 'W/"abc"'}, FAILED),
        ({"if-match": '"x"'}, FAILED),
        ({"if-match": "nonsense"}, FAILED),
        # If-Unmodified-Since: section 13.1.4, passed over beside If-Match
        ({"if-unmodified-since": DATE}, OK),
        ({"if-unmodified-since": AFTER}, OK),
        ({"if-unmodified-since": BEFORE}, FAILED),
        ({"if-unmodified-since": "never"}, OK),
        ({"if-match": '"abc"', "if-unmodified-since": BEFORE}, OK),
        # the order of section 13.2.2
        ({"if-match": '"x"', "if-none-match": '"abc"'}, FAILED),
        ({"if-match": '"abc"', "if-none-match": '"abc"'}, NOT_MODIFIED),
        ({"if-none-match": '"abc"', "range": "bytes=0-1"}, NOT_MODIFIED),
        ({"if-match": '"x"', "range": "bytes=0-1"}, FAILED),
        # Range: section 14.2
        ({"range": "bytes=0-499"}, part(0, 499)),
        ({"range": "bytes=500-999"}, part(500, 999)),
        ({"range": "bytes=500-"}, part(500, 999)),
        ({"range": "bytes=-500"}, part(500, 999)),
        ({"range": "bytes=-5000"}, part(0, 999)),
        ({"range": "bytes=0-0"}, part(0, 0)),
        ({"range": "bytes=-1"}, part(999, 999)),
        ({"range": "bytes=900-5000"}, part(900, 999)),
        ({"range": "Bytes=0-9"}, part(0, 9)),
        ({"range": "bytes= 0-9 "}, part(0, 9)),
        ({"range": "bytes=1000-"}, UNSATISFIABLE),
        ({"range": "bytes=1000-2000"}, UNSATISFIABLE),
        ({"range": "bytes=-0"}, UNSATISFIABLE),
        ({"range": "bytes=9-5"}, OK),
        ({"range": "bytes=-"}, OK),
        ({"range": "bytes=a-b"}, OK),
        ({"range": "bytes="}, OK),
        ({"range": "bytes"}, OK),
        ({"range": "pages=1-2"}, OK),
        ({"range": "bytes=0-1,5-6"}, OK),
        ({"range": "bytes=" + ",".join(f"{n}-{n}" for n in range(1000))}, OK),
        ({"range": "bytes=" + "9" * 40 + "-"}, OK),
        ({"range": "bytes=0-" + "9" * 18}, part(0, 999)),
        # If-Range: section 13.1.5, strong
        ({"range": "bytes=0-9", "if-range": '"abc"'}, part(0, 9)),
        ({"range": "bytes=0-9", "if-range": '"x"'}, OK),
        ({"range": "bytes=0-9", "if-range": 'W/"abc"'}, OK),
        ({"range": "bytes=0-9", "if-range": DATE}, part(0, 9)),
        ({"range": "bytes=0-9", "if-range": BEFORE}, OK),
        ({"range": "bytes=0-9", "if-range": AFTER}, OK),
        ({"range": "bytes=0-9", "if-range": "nonsense"}, OK),
        ({"range": "bytes=2000-", "if-range": '"x"'}, OK),
        ({"if-range": '"abc"'}, OK),
    ],
)
def test_what_the_standard_wants(headers: dict[str, str], wanted: Verdict) -> None:
    assert judge(headers, NOW) == wanted


def test_an_empty_file_has_no_range() -> None:
    empty = Validators('"e"', 0, 0)
    assert judge({}, empty) == Verdict(200, 0, -1)
    for text in ("bytes=0-", "bytes=-5", "bytes=0-0"):
        assert judge({"range": text}, empty) == Verdict(416)


def test_dates_are_written_as_they_are_read() -> None:
    assert NOW.last_modified == DATE
    assert judge({"if-modified-since": NOW.last_modified}, NOW) == NOT_MODIFIED


@given(
    st.dictionaries(
        st.sampled_from(
            ["if-match", "if-none-match", "if-modified-since", "if-unmodified-since", "if-range", "range"]
        ),
        st.text('abcW/*,;=-:019 "\x00\u00e9', max_size=80)
        | st.sampled_from(['"abc"', "*", DATE, "bytes=1-2", "bytes=-9", "bytes=5000-"]),
    )
)
def test_anything_gets_an_answer_within_the_file(headers: dict[str, str]) -> None:
    verdict = judge(headers, NOW)
    assert verdict.status in (200, 206, 304, 412, 416)
    if verdict.status in (200, 206):
        assert 0 <= verdict.first <= verdict.last < NOW.size
