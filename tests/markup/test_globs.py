"""Patterns that others wrote match as they say, in time that only grows with the path."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.contract.delivery import Markup
from plumcrate.markup.globs import Glob
from plumcrate.markup.selection import page_left_out

ALPHABET = st.text("ab/*?.", max_size=12)


def by_expression(pattern: str, path: str) -> bool:
    """The same as a regular expression, which is only safe for patterns of our own."""
    parts = re.split(r"(\*{2,}|\*|\?)", pattern)
    said = {"*": "[^/]*", "?": "[^/]"}
    written = "".join(".*" if part.startswith("**") else said.get(part, re.escape(part)) for part in parts)
    return re.fullmatch(written, path, re.DOTALL) is not None


@given(ALPHABET, st.text("ab/.", max_size=16))
def test_a_pattern_means_what_it_says(pattern: str, path: str) -> None:
    assert Glob(pattern).matches(path) == by_expression(pattern, path)


@pytest.mark.parametrize(
    ("pattern", "fits", "fits_not"),
    [
        ("**/*.gif", "a/b/c.gif", "c.gif"),
        ("2024/**", "2024/01/x.jpg", "2025/01/x.jpg"),
        ("*.png", "logo.png", "brand/logo.png"),
        ("***", "any/thing", None),
        ("", "", "a"),
        ("a?c", "abc", "a/c"),
        ("(a+)+$", "(a+)+$", "aaaa"),
        ("灯?.jpg", "灯塔.jpg", "灯.jpg"),
    ],
)
def test_patterns(pattern: str, fits: str, fits_not: str | None) -> None:
    assert Glob(pattern).matches(fits)
    assert fits_not is None or not Glob(pattern).matches(fits_not)


def test_a_pattern_that_ate_the_interpreter_looks_at_each_character_once() -> None:
    pattern = "**a" * 60 + "**b"
    for length in (1_500, 3_000, 200_000):
        one = Glob(pattern)
        assert not one.matches("a" * length)
        assert one.steps == length
    assert not page_left_out(Markup(no_pages=[pattern]), "/" + "a" * 100_000)
