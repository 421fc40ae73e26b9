"""The tokenizer against a parser of the HTML standard that is not ours, and fed in every way."""

from __future__ import annotations

from collections.abc import Callable
from xml.etree.ElementTree import Element

import pytest
import tinyhtml5
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.markup.references import decoded
from plumcrate.markup.tokenizer import Tag, Tokenizer

XHTML = "{http://www.w3.org/1999/xhtml}"


def tags_of(page: str, *cuts: int) -> list[Tag]:
    tokenizer, found, at = Tokenizer(), [], 0
    for cut in (*sorted(min(cut, len(page)) for cut in cuts), len(page)):
        found += tokenizer.feed(page[at:cut])
        at = cut
    return [*found, *tokenizer.close()]


def pictures_of(page: str, *cuts: int) -> list[str]:
    """The ``src`` of each ``<img>``."""
    return [
        tag.attributes["src"].text
        for tag in tags_of(page, *cuts)
        if tag.name == "img" and not tag.closing and "src" in tag.attributes
    ]


def pictures_in_tree(page: str) -> list[str]:
    """The same by a whole parser; ``<noscript>`` left out, whose content is text where scripts run."""

    def below(element: Element) -> list[str]:
        if element.tag == f"{XHTML}noscript":
            return []
        own = [element.attrib["src"]] if element.tag == f"{XHTML}img" and "src" in element.attrib else []
        return own + [src for child in element for src in below(child)]

    return below(tinyhtml5.parse(page))


@pytest.mark.parametrize(
    ("page", "found"),
    [
        ("<img src=a>", ["a"]),
        ("<IMG SRC='a b'>", ["a b"]),
        ('<img alt=">" src="a">', ["a"]),
        ("<img alt='\"' src = a >", ["a"]),
        ("<img/src=a/>", ["a/"]),
        ("<img src=a src=b>", ["a"]),
        ("<img alt src=a>", ["a"]),
        ('<img alt="x"src="a">', ["a"]),
        ("<img =x src=a>", ["a"]),
        ("<img src=>", [""]),
        ("<img src=a", []),
        ("<img src='a>", []),
        ("< img src=a>", []),
        ("<imgs src=a><img-x src=a>", []),
        ("<!-- <img src=a> --><img src=b>", ["b"]),
        ("<!--><img src=a>", ["a"]),
        ("<!---><img src=a>", ["a"]),
        ("<!-- --!><img src=a>", ["a"]),
        ("<!-- -- > <img src=a>", []),
        ("<!doctype html '><img src=a>", ["a"]),
        ("<?php '<img src=a>' ?><img src=b>", ["b"]),
        ("</ <img src=a><img src=b>", ["b"]),
        ("</><img src=a>", ["a"]),
        ("<script>'<img src=a>'</script><img src=b>", ["b"]),
        ("<script><!-- <script> </script> <img src=a> --></script><img src=b>", ["b"]),
        ("<script><!-- </script><img src=b>", ["b"]),
        ("<script><!--> <script> </script><img src=b>", ["b"]),
        ("<script></scripture><img src=a></script ><img src=b>", ["b"]),
        ("<style>a{background:'<img src=a>'}</STYLE><img src=b>", ["b"]),
        ("<textarea><img src=a></textarea><img src=b>", ["b"]),
        ("<title><img src=a></title><img src=b>", ["b"]),
        ("<iframe><img src=a></iframe><img src=b>", ["b"]),
        ("<xmp><img src=a></xmp><noembed><img src=a></noembed><img src=b>", ["b"]),
        ("<noscript><img src=a></noscript><img src=b>", ["b"]),
        ("<plaintext><img src=a></plaintext>", []),
        ("<svg><style><img src=a></style></svg>", ["a"]),
        ("<svg><![CDATA[<img src=a>]]></svg><img src=b>", ["b"]),
        ("<![CDATA[<img src=a>]]><img src=b>", ["a", "b"][1:]),
        ("<svg/><title><img src=a></title><img src=b>", ["b"]),
        ("<img src='a&amp;b&copy=1&copy;&#x41;&#66'>", ["a&b&copy=1\xa9AB"]),
    ],
)
def test_pictures_are_found_where_the_standard_has_them(page: str, found: list[str]) -> None:
    assert pictures_of(page) == found
    for cut in range(len(page)):
        assert pictures_of(page, cut) == found


FRAGMENTS = st.sampled_from(
    [
        "<img src=a>",
        '<img src="b" alt="<img src=no>">',
        "<img alt='x' src=c />",
        "<p class=x>",
        "</p>",
        "text",
        "<!--",
        "-->",
        "<!-->",
        "--!>",
        "-",
        ">",
        "<",
        "</",
        "<!",
        "<?x",
        "<script>",
        "</script>",
        "</script ",
        "<style>",
        "</style>",
        "<title>",
        "</title>",
        "<textarea>",
        "</textarea>",
        "<xmp>",
        "</xmp>",
        '"',
        "'",
        "=",
        " ",
        "/",
        "&lt;",
        "<![CDATA[",
        "]]>",
        "<a href='x>y'>",
        "<div",
        "<br/>",
        "<scrip",
        "t>",
        "<!doctype html>",
        "<iframe>",
        "</iframe>",
        "<IMG SRC=D>",
    ]
)


@given(st.lists(FRAGMENTS, max_size=14), st.lists(st.integers(0, 200), max_size=4))
def test_any_page_has_the_pictures_that_a_parser_finds(parts: list[str], cuts: list[int]) -> None:
    page = "<!doctype html><body>" + "".join(parts)
    found = pictures_of(page)
    assert found == pictures_in_tree(page)
    assert pictures_of(page, *cuts) == found


@given(st.text(alphabet="<>/!-=\"' aimgsrcptx\n&;#[]", max_size=80), st.integers(0, 80))
def test_no_text_is_too_broken(page: str, cut: int) -> None:
    tags = tags_of(page)
    assert all(page[tag.start : tag.end] == tag.source for tag in tags)
    assert tags_of(page, cut) == tags


@given(st.integers(0, 0x110010), st.sampled_from(["&#{};", "&#x{:x};", "&#0{}", "&#X{:X}"]))
def test_every_numbered_reference_is_decoded_as_a_parser_does(number: int, form: str) -> None:
    value = form.format(number)
    tree = tinyhtml5.parse(f'<!doctype html><body><p title="{value}">')
    assert decoded(value) == next(tree.iter(f"{XHTML}p")).attrib["title"]


@pytest.mark.parametrize("number", [*range(0x100), 0xD7FF, 0xD800, 0xDFFF, 0xFFFE, 0x10FFFF, 0x110000, 10**9])
def test_odd_numbers_too(number: int) -> None:
    tree = tinyhtml5.parse(f'<!doctype html><body><p title="&#{number};">')
    assert decoded(f"&#{number};") == next(tree.iter(f"{XHTML}p")).attrib["title"]


@given(st.text(alphabet="&;#xX0aAcopynbltg1=", max_size=24))
def test_references_are_decoded_as_a_parser_does(value: str) -> None:
    tree = tinyhtml5.parse(f'<!doctype html><body><p title="{value}">')
    assert decoded(value) == next(tree.iter(f"{XHTML}p")).attrib["title"]


class Steps(list):  # type: ignore[type-arg]
    """A stack that counts what is looked at."""

    looked = 0

    def __contains__(self, one: object) -> bool:
        Steps.looked += len(self)
        return super().__contains__(one)

    def __getitem__(self, place):  # type: ignore[no-untyped-def]
        Steps.looked += len(range(*place.indices(len(self)))) if isinstance(place, slice) else 1
        return super().__getitem__(place)


@pytest.mark.parametrize(
    "page",
    [
        lambda n: "<svg><desc>" * n + "</q>" * n,
        lambda n: "<svg><desc>" * n + "</desc></svg>" * n,
        lambda n: "<math><mi>" * n + "<p>" * n,
        lambda n: "<svg><g>" * n + "</svg>" * n,
    ],
)
def test_foreign_content_costs_as_much_as_there_is_of_it(page: Callable[[int], str]) -> None:
    looked = []
    for n in (1_000, 2_000, 4_000):
        tokenizer = Tokenizer()
        tokenizer._foreign = Steps()
        Steps.looked = 0
        count = sum(1 for _ in tokenizer.feed(page(n))) + sum(1 for _ in tokenizer.close())
        assert count >= 2 * n
        looked.append(Steps.looked)
    assert looked[1] <= 2.1 * looked[0]
    assert looked[2] <= 2.1 * looked[1]
