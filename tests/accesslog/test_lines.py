"""Lines of access logs, whoever wrote them."""

from __future__ import annotations

import json
from datetime import date
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.accesslog.lines import hit_of, whole_lines
from plumcrate.accesslog.visitors import is_bot

DAY = date(2026, 10, 3)
COMMON = b'192.0.2.7 - - [03/Oct/2026:08:12:33 +0200] "GET /media/a.jpg HTTP/1.1" 200 5120'
PHONE = "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 Safari/604.1"
DESK = "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 Chrome/156.0.0.0 Safari/537.36"
AGENT = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
COMBINED = COMMON + b' "https://ledge.example/" "' + AGENT.encode() + b'"'


@pytest.mark.parametrize(
    ("line", "path", "size", "part"),
    [
        (COMMON, b"/media/a.jpg", 5120, False),
        (COMBINED, b"/media/a.jpg", 5120, False),
        (
            COMBINED.replace(b"192.0.2.7 - -", b"ledge.example:443 2001:db8::7 - the keeper"),
            b"/media/a.jpg",
            5120,
            False,
        ),
        (COMMON.replace(b"a.jpg", b"a%20b%C3%9C.jpg?v=1"), "/media/a bÜ.jpg".encode(), 5120, False),
        (COMMON.replace(b" 200 ", b" 206 "), b"/media/a.jpg", 5120, True),
        (COMMON.replace(b"/media", b"https://ledge.example/media"), b"/media/a.jpg", 5120, False),
        (COMMON.replace(b" HTTP/1.1", b""), b"/media/a.jpg", 5120, False),
    ],
)
def test_lines_of_the_usual_formats(line: bytes, path: bytes, size: int, part: bool) -> None:
    hit = hit_of(line)
    assert hit is not None
    assert (hit.day, hit.path, hit.bytes, hit.part) == (DAY, path, size, part)
    assert hit.agent == (AGENT if AGENT.encode() in line else None)


PICTURE = {"method": "GET", "path": "/media/a.jpg", "status": 200}


@pytest.mark.parametrize(
    "told",
    [
        {
            "time_iso8601": "2026-10-03T08:12:33+02:00",
            "request": "GET /media/a.jpg?x HTTP/2.0",
            "status": "200",
            "body_bytes_sent": "5120",
            "http_user_agent": AGENT,
        },
        {
            "ts": 1_790_986_353.25,
            "request": {"method": "GET", "uri": "/media/a.jpg", "headers": {"User-Agent": [AGENT]}},
            "status": 200,
            "size": 5120,
        },
        {
            "@timestamp": "2026-10-03T06:12:33Z",
            "verb": "GET",
            "url": "/media/a.jpg",
            "response_code": 200,
            "bytes": 5120,
            "user_agent": AGENT,
        },
        PICTURE | {"time_local": "03/Oct/2026:08:12:33 +0200", "bytes_sent": 5120, "agent": AGENT},
        PICTURE | {"time": 1_790_986_353_250, "size": 5120, "agent": AGENT},
    ],
)
def test_lines_of_json(told: dict[str, object]) -> None:
    hit = hit_of(json.dumps(told).encode())
    assert hit is not None
    assert (hit.day, hit.path, hit.bytes, hit.part, hit.agent) == (DAY, b"/media/a.jpg", 5120, False, AGENT)


@pytest.mark.parametrize(
    "line",
    [
        b"",
        b"\xff\xfe\x00",
        b"{",
        b"{}",
        b"[]",
        b'{"request": 7}',
        b'{"status": 1e999, "size": 5, "method": "GET", "uri": "/a", "ts": 1}',
        b'{"status": 200, "size": 5, "method": "GET", "uri": "/a", "ts": 1e300}',
        b"[" * 60_000,
        b'{"a":' * 30_000,
        b"Oct  3 08:12:33 ledge kernel: something else",
        COMMON.replace(b"GET", b"POST"),
        COMMON.replace(b"GET", b"HEAD"),
        COMMON.replace(b" 200 ", b" 304 "),
        COMMON.replace(b" 200 ", b" 404 "),
        COMMON.replace(b"5120", b"-"),
        COMMON.replace(b"03/Oct", b"33/Oct"),
        COMMON.replace(b"Oct", b"Okt"),
        COMMON.replace(b'"GET', b'"\\x16\\x03\\x01'),
    ],
)
def test_lines_that_count_nothing(line: bytes) -> None:
    assert hit_of(line) is None


@given(st.binary(max_size=300))
def test_no_line_is_too_odd(line: bytes) -> None:
    hit_of(line)
    hit_of(b"{" + line)
    hit_of(COMMON[:30] + line)


@given(st.binary(max_size=200), st.lists(st.integers(0, 200), max_size=6), st.integers(1, 40))
def test_lines_are_the_same_in_whatever_pieces_they_come(data: bytes, cuts: list[int], longest: int) -> None:
    places = [0, *sorted(min(cut, len(data)) for cut in cuts), len(data)]
    pieces = (data[begin:end] for begin, end in pairwise(places))
    lines = list(whole_lines(pieces, longest))
    whole = data.split(b"\n")[:-1]
    assert [taken for _, taken in lines] == [len(line) + 1 for line in whole]
    assert [line for line, _ in lines] == [line if len(line) <= longest else b"" for line in whole]


@pytest.mark.parametrize(
    ("agent", "bot"),
    [
        (AGENT, False),
        (PHONE, False),
        (f"{DESK} PlumCrate", True),
        (DESK, False),
        ("Mozilla/5.0 (compatible; ExampleBot/2.1; +http://bot.example/)", True),
        ("ledge-crawler", True),
        ("python-httpx/0.28", True),
        ("curl/8.1", True),
        ("Mozilla/5.0 HeadlessChrome/156.0", True),
        ("-", True),
        ("", True),
        (None, True),
    ],
)
def test_programs_are_told_from_people(agent: str | None, bot: bool) -> None:
    assert is_bot(agent) is bot


@pytest.mark.parametrize("size", ["9" * 5_000, "9" * 14, str(10**12 + 1), "1e400", "-5"])
def test_a_size_that_no_picture_has_is_passed_over(size: str) -> None:
    """Whoever writes such lines wants the count to end."""
    assert hit_of(COMMON.replace(b"5120", size.encode())) is None
    told = json.dumps(PICTURE | {"time": "2026-10-03", "size": 0}).replace('"size": 0', f'"size": {size}')
    assert hit_of(told.encode()) is None
    assert hit_of(told.replace(f'"size": {size}', f'"size": "{size}"').encode()) is None
