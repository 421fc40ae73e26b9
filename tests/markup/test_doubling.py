"""What strangers send costs in proportion to its length: twice as much takes at most 2.1 times the steps.

Steps are lines of Python that are run, ours and the libraries'. No time is taken: that is for
``script/bench pages``.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from types import FrameType
from typing import Any

import pytest

from plumcrate.accesslog.lines import hit_of, whole_lines
from plumcrate.contract.delivery import Delivery, Markup, PageFile
from plumcrate.delivery.conditions import Validators, judge
from plumcrate.delivery.negotiation import accept_of
from plumcrate.markup.globs import Glob
from plumcrate.markup.page import PageStream
from plumcrate.markup.srcset import candidates_of
from plumcrate.markup.styles import addresses_of

NOW = Validators('"a"', 0, 10_000)
LINE = b'192.0.2.7 - - [03/Oct/2026:08:12:33 +0200] "GET /media/a.jpg HTTP/1.1" 200 5120 "%s" "%s"\n'


def steps_of(call: Callable[[], object]) -> int:
    """Lines that a call runs."""
    count = 0

    def trace(frame: FrameType, event: str, _: Any) -> Any:
        nonlocal count
        count += event == "line"
        return trace

    former = sys.gettrace()
    sys.settrace(trace)
    try:
        call()
    finally:
        sys.settrace(former)
    return count


def page(text: str) -> Callable[[], object]:
    settings = Delivery(address="https://ledge.example/media", markup=Markup())

    def look_up(paths: Any) -> dict[str, PageFile]:
        return {}

    def rewritten() -> bytes:
        stream = PageStream("https://ledge.example/", settings, look_up)
        data = text.encode()
        return b"".join(stream.over(data[at : at + 4_096] for at in range(0, len(data), 4_096)))

    return rewritten


CASES: dict[str, Callable[[int], Callable[[], object]]] = {
    "srcset of many": lambda n: lambda: candidates_of("/media/a.jpg 640w, " * n),
    "srcset of commas": lambda n: lambda: candidates_of("," * n),
    "srcset of one": lambda n: lambda: candidates_of("a" * n + " " + "9" * n + "w"),
    "srcset of brackets": lambda n: lambda: candidates_of("a (" * n + ", b " + ")" * n),
    "styles": lambda n: lambda: list(addresses_of("background: url(" * n + "a.jpg")),
    "styles of quotes": lambda n: lambda: list(addresses_of("url('" * n + "\\" * n)),
    "entity tags": lambda n: lambda: judge({"if-none-match": '"b", ' * n}, NOW),
    "ranges": lambda n: lambda: judge({"range": "bytes=" + "0-1," * n}, NOW),
    "accept": lambda n: lambda: accept_of("image/avif;q=0.5," * n),
    "a pattern of stars": lambda n: lambda: Glob("**a" * n + "b").matches("a" * 400),
    "a path of stars": lambda n: lambda: Glob("**a**a**b").matches("a" * n),
    "a line of quotes": lambda n: lambda: hit_of(LINE % (b'\\"' * n, b"\\" * n)),
    "a line of digits": lambda n: lambda: hit_of(LINE.replace(b"5120", b"9" * n)),
    "lines": lambda n: lambda: list(whole_lines(iter([b"x" * 50 + b"\n"] * n), 65_536)),
    "a line without end": lambda n: lambda: list(whole_lines(iter([b"x" * 64] * n), 65_536)),
    "a page of pictures": lambda n: page('<img src="/media/a.jpg">' * n),
    "a page of drawings": lambda n: page("<svg><desc>" * n + "</q>" * n),
    "a page of comments": lambda n: page("<!--" * n + "<!" * n + "<script>" * n),
    "a page of attributes": lambda n: page("<img " + "a=1 " * n + ">"),
    "a page of templates": lambda n: page("<template><picture>" * n),
}


@pytest.mark.parametrize("name", CASES)
def test_twice_as_much_takes_twice_the_steps(name: str) -> None:
    few, many = (steps_of(CASES[name](count)) for count in (800, 1_600))
    assert many <= 2.1 * few + 50, f"{few} steps, then {many}"
