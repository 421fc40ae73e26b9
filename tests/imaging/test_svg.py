"""Drawings: read without harm, written anew in fewer bytes, drawn the same."""

from __future__ import annotations

import gzip
import math
from collections.abc import Callable
from itertools import pairwise
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.imaging import treat
from plumcrate.imaging.errors import Damaged, LeftAlone
from plumcrate.imaging.identification import identify, svg_size
from plumcrate.imaging.kinds import EVERYTHING, NOTHING, RIGHTS_ONLY
from plumcrate.imaging.outcome import Chosen
from plumcrate.imaging.preview import preview
from plumcrate.imaging.recipe import Level, Limits, Recipe
from plumcrate.imaging.shapes import Size
from plumcrate.imaging.svg import Tolerance, cleaned, drawn, read_drawing, written
from plumcrate.imaging.svg.document import MOST_BYTES, SVG
from plumcrate.imaging.svg.paths import segments_of, short_path
from plumcrate.imaging.svg.styles import properties_of
from plumcrate.imaging.svg.values import (
    functions_of,
    joined,
    matrix_of,
    rounded,
    short_colour,
    short_length,
    short_transform,
    stretch,
)

#: As a drawing program leaves one: names for all, what it keeps for itself, what nothing shows.
LIGHTHOUSE = b"""<?xml version="1.0" encoding="UTF-8" standalone="no"?>
<!-- drawn by hand -->
<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink"
  xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" xmlns:cc="http://creativecommons.org/ns#"
  xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:pen="https://pen.example/ns"
  id="svg2" version="1.1" width="120px" height="160.000" viewBox="0 0 120 160" pen:zoom="4.2">
  <title>The light on the ledge</title>
  <metadata id="m1"><rdf:RDF><cc:Work rdf:about=""><dc:format>image/svg+xml</dc:format>
    <dc:rights>Gannet Ledge Light Trust</dc:rights><dc:date>1907</dc:date></cc:Work></rdf:RDF></metadata>
  <pen:view pen:grid="true"/>
  <defs id="defs4">
    <linearGradient id="sea"><stop offset="0" style="stop-color:#003366;stop-opacity:1"/>
      <stop offset="1" stop-color="#ffffff"/></linearGradient>
    <linearGradient id="nobodys"><stop offset="0"/></linearGradient>
    <path id="window" d="M 0,0 L 4,0 L 4,6 L 0,6 Z"/>
  </defs>
  <g id="layer1" pen:label="all" transform="translate(0.000,0)">
    <rect id="rect10" x="0" y="100.0000" width="120.000" height="60"
      style="fill:url(#sea);stroke:none;stroke-width:3"/>
    <path id="path12"
      style="fill:#ffffff;fill-opacity:1;font-size:12px;-pen-font:Sans;stroke:#ff0000;stroke-width:1"
      d="M 48.0000,100.00001 L 52.0,40.0 L 68.0,40.0 L 72.0,100.0 C 70.0,104.0 50.0,104.0 48.0,100.0 z"/>
    <g id="empty"/>
    <use id="use1" xlink:href="#window" transform="matrix(1,0,0,1,58,60)"/>
    <circle cx="60.000" cy="32" r="7.5000" fill="rgb(255,255,0)" opacity="1"/>
  </g>
</svg>
"""
SIZES = (48, 200)


def tree(data: bytes) -> ElementTree.Element:
    return ElementTree.fromstring(data)


def svg(inside: str, attributes: str = 'viewBox="0 0 100 100"') -> bytes:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" {attributes}>'
        f"{inside}</svg>"
    ).encode()


def anew(inside: str, part: float = 0.0) -> str:
    """What becomes of the inside of a drawing of 100 by 100."""
    made = written(cleaned(read_drawing(svg(inside)), NOTHING, Tolerance(part))).decode()
    return made[made.index(">") + 1 :].removesuffix("</svg>")


# -- the whole ---------------------------------------------------------------------------------


@pytest.mark.parametrize("level", list(Level))
def test_a_drawing_is_lighter_and_looks_the_same(level: Level) -> None:
    treatment = treat(LIGHTHOUSE, Recipe(level, metadata=NOTHING))
    main = treatment.main
    assert isinstance(main, Chosen)
    assert main.size == len(main.data) < len(LIGHTHOUSE) * 0.45
    assert len(gzip.compress(main.data, 9)) < len(gzip.compress(LIGHTHOUSE, 9)) * 0.65
    assert main.score is not None
    assert main.score >= (100.0 if level is Level.EXACT else 99.0)
    assert len(treatment.outputs) == 1, "no copies in formats of pixels"
    assert (treatment.facts.format, treatment.facts.shown_size) == ("svg", (120, 160))
    for side in SIZES:
        assert drawn(main.data, side).same_as(drawn(LIGHTHOUSE, side)) or level is not Level.EXACT
    root = tree(main.data)
    assert root.findtext(f"{SVG}title") == "The light on the ledge"
    assert (root.get("width"), root.get("height"), root.get("viewBox")) == ("120", "160", "0 0 120 160")
    assert [one.get("id") for one in root.iter() if one.get("id")] == ["sea", "window"]
    assert b"pen" not in main.data
    again = treat(main.data, Recipe(level, metadata=NOTHING)).main
    assert not isinstance(again, Chosen), "what is light already stays"


def test_metadata_is_kept_by_kind() -> None:
    kept = {
        name: written(cleaned(read_drawing(LIGHTHOUSE), keep, Tolerance(0.0))).decode()
        for name, keep in (("all", EVERYTHING), ("rights", RIGHTS_ONLY), ("none", NOTHING))
    }
    assert "1907" in kept["all"]
    assert "<dc:rights>Gannet Ledge Light Trust</dc:rights>" in kept["rights"]
    assert "1907" not in kept["rights"]
    assert "metadata" not in kept["none"]
    for made in kept.values():
        tree(made.encode())


def test_a_preview_is_drawn() -> None:
    assert identify(preview(LIGHTHOUSE, 60, Limits())).shown_size == (60, 80)


# -- what is left alone, in words --------------------------------------------------------------

ENTITIES = b'<!DOCTYPE svg [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]>' + svg("<text>&b;</text>")
USES = "".join(
    f'<g id="a{n}">{f"<use href=%sa{n - 1}%s/>" % (chr(34) + "#", chr(34)) * 10}</g>' for n in range(1, 12)
)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (svg("<script>1</script>"), "a script"),
        (svg('<rect onclick="x()"/>'), "a script"),
        (svg('<a xlink:href=" JavaScript:x()"><rect/></a>'), "a script"),
        (svg("<foreignObject/>"), "a piece of a page"),
        (b'<?xml-stylesheet href="a.css"?>' + svg("<rect/>"), "a style sheet from another file"),
        (ENTITIES, "declares entities"),
        (b'<!DOCTYPE svg [<!ENTITY a SYSTEM "file:///etc/passwd">]>' + svg("<text>&a;</text>"), "entities"),
        (b"<svg><rect/></svg>", "not SVG's"),
        (svg("<g>" * 300 + "</g>" * 300), "nested deeper than 200"),
        (svg('<g id="a0"><rect/></g>' + USES), "show one another too often"),
        (svg('<g id="a"><use href="#a"/></g>'), "show one another too often"),
        (svg("<rect/>", 'width="0" height="0"'), "cannot be drawn here"),
    ],
)
def test_what_is_left_alone_says_why(data: bytes, words: str) -> None:
    with pytest.raises(LeftAlone, match=words):
        treat(data, Recipe())


def test_a_drawing_that_ends_early_is_damaged_and_a_vast_one_is_left_alone() -> None:
    with pytest.raises(Damaged, match="no well-formed XML"):
        treat(LIGHTHOUSE[:-20], Recipe())
    with pytest.raises(LeftAlone, match="32 MB"):
        read_drawing(svg(" " * MOST_BYTES))
    with pytest.raises(LeftAlone, match="not cut"):
        treat(LIGHTHOUSE, Recipe(size=Size(20, 20)))


@given(st.binary(max_size=200))
def test_any_bytes_are_refused_in_words_or_read(inside: bytes) -> None:
    try:
        drawing = read_drawing(b'<svg xmlns="http://www.w3.org/2000/svg">' + inside + b"</svg>")
    except (Damaged, LeftAlone):
        return
    assert read_drawing(written(cleaned(drawing, EVERYTHING, Tolerance(0.0)))).root.tag == f"{SVG}svg"


# -- what stays --------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "inside",
    [
        '<symbol id="gull"><path d="M0 0h9"/></symbol>',  # for other pages
        '<rect width="9" height="9"><animate attributeName="fill-opacity" values="1;0"/></rect>',
        '<text x="1" y="20">two  words <tspan font-size="12">more</tspan> at the end</text>',
        '<switch><g systemLanguage="de"><rect/></g><g><rect width="9"/></g></switch>',
        '<style>g:nth-child(2){fill:red}</style><metadata/><g id="c"><rect/></g>',
        '<style>[id^=c]{fill:red}</style><g id="c"><rect fill="#FF0000"/></g>',
        '<style>.a{fill:red}#b{fill:blue}</style><g class="a"><rect fill="#000" width="9"/></g><g id="b"/>',
        '<a href="https://gannet-ledge.example/"><rect width="9" height="9"/></a>',
        '<g filter="url(#f)"/><filter id="f"><feFlood flood-color="red"/></filter>',
        '<g fill="red"><rect fill="#000" width="9" height="9"/></g>',
        '<image href="kite.jpg" width="9" height="9"/>',
    ],
)
def test_what_is_seen_or_used_from_elsewhere_stays(inside: str) -> None:
    assert anew(inside) == inside


def test_of_a_switch_nothing_goes_that_might_be_chosen() -> None:
    inside = '<switch><x:y xmlns:x="https://pen.example/ns"/><rect width="9"/></switch>'
    assert anew(inside) == '<switch><x:y/><rect width="9"/></switch>', "its namespace is said on the root"


def test_words_and_the_space_between_them_stay() -> None:
    kept = "<text>\n a <tspan>b</tspan> c\n</text>"
    assert anew(f"<g>\n  {kept}\n</g>") == kept
    assert anew("<desc> a &lt; b &amp; c </desc>") == "<desc> a &lt; b &amp; c </desc>"


def test_what_says_nothing_goes() -> None:
    assert anew('<!-- x --><g><g><rect width="9.00" height="+9"/></g></g>') == '<rect width="9" height="9"/>'
    assert anew('<defs><clipPath id="c"><rect/></clipPath></defs><circle id="i" r="9"/>') == '<circle r="9"/>'
    assert anew('<rect style="opacity:1;display:inline;fill:#000000;enable-background:new"/>') == (
        '<rect style="display:inline"/>'
    )
    assert anew('<rect fill="red" style="fill:#0000ff"/>') == '<rect style="fill:#00f"/>'


# -- numbers, colours, transforms --------------------------------------------------------------


@given(st.floats(-1e6, 1e6), st.integers(0, 6))
def test_a_rounded_number_is_near_and_short(value: float, decimals: int) -> None:
    text = rounded(repr(value), decimals)
    assert abs(float(text) - value) <= 0.5 * 10.0**-decimals * (1 + 1e-6)
    assert len(text) <= len(f"{value:.{decimals}f}")
    assert float(rounded(repr(value), None)) == value
    assert len(rounded(repr(value), None)) <= len(repr(value))


@given(st.lists(st.floats(-1e4, 1e4), min_size=1, max_size=9), st.integers(0, 4))
def test_numbers_one_after_the_other_are_read_as_they_were(values: list[float], decimals: int) -> None:
    texts = [rounded(repr(value), decimals) for value in values]
    (segment,) = segments_of(f"M0 0L{joined([*texts, *texts])}")[1:2]
    assert segment.numbers[0] == float(texts[0])
    assert len(segments_of(f"M0 0L{joined([*texts, *texts])}")) == 1 + len(values)


@pytest.mark.parametrize(
    ("value", "short"),
    [
        ("#FFFFFF", "#fff"),
        ("rgb(255, 0,0)", "red"),
        ("#aabbcd", "#aabbcd"),
        ("lightgoldenrodyellow", "#fafad2"),
        ("url(#a)", "url(#a)"),
        ("currentColor", "currentColor"),
        ("rgb(10%,0%,0%)", "rgb(10%,0%,0%)"),
    ],
)
def test_colours(value: str, short: str) -> None:
    assert short_colour(value) == short


def test_lengths() -> None:
    given = ("12.50px", "0.333333mm", "+100.0", "50.0%", "auto", "1 2")
    assert [short_length(one, 3) for one in given] == ["12.5", ".333mm", "100", "50%", "auto", "1 2"]


TRANSFORMS = st.sampled_from(
    [
        ("matrix", 6, 0.1, 3),
        ("translate", 2, -90, 90),
        ("scale", 2, 0.1, 4),
        ("rotate", 3, -99, 99),
        ("skewX", 1, -40, 40),
    ]
).flatmap(
    lambda one: st.lists(st.floats(one[2], one[3]), min_size=one[1], max_size=one[1]).map(
        lambda numbers: f"{one[0]}({', '.join(map(repr, numbers))})"
    )
)


@given(st.lists(TRANSFORMS, min_size=1, max_size=2), st.sampled_from([0.0, 0.01, 0.5]))
def test_a_shorter_transform_moves_no_point_further_than_allowed(parts: list[str], tolerance: float) -> None:
    value = " ".join(parts)
    short = short_transform(value, tolerance, 100.0)
    whole, other = (matrix_of(functions_of(text) or []) for text in (value, short))
    assert len(short) <= len(value)
    reach = 1.0
    for part in parts:
        reach *= max(1.0, stretch(matrix_of(functions_of(part) or [])))
    for x, y in ((0, 0), (70, -70), (-70, 70)):
        moved = [m[0] * x + m[2] * y + m[4] - o[0] * x - o[2] * y - o[4] for m, o in ((whole, other),)]
        assert abs(moved[0]) <= (tolerance * 2 + 1e-6) * reach * len(parts) * 2


# -- paths -------------------------------------------------------------------------------------

NUMBERS = st.floats(-500, 500).map(lambda value: round(value, 3))
COMMANDS = st.sampled_from("MmLlHhVvCcSsQqTtAaZz").flatmap(
    lambda command: st.tuples(
        st.just(command),
        st.lists(
            NUMBERS,
            min_size={"H": 1, "V": 1, "C": 6, "S": 4, "Q": 4, "A": 7, "Z": 0}.get(command.upper(), 2),
            max_size={"H": 1, "V": 1, "C": 6, "S": 4, "Q": 4, "A": 7, "Z": 0}.get(command.upper(), 2),
        ),
    )
)
PATHS = st.lists(COMMANDS, max_size=12).map(
    lambda parts: (
        "M 3,4 "
        + " ".join(
            command
            + ",".join(
                str(int(number > 0)) if command in "Aa" and place in (3, 4) else repr(number)
                for place, number in enumerate(numbers)
            )
            for command, numbers in parts
        )
    )
)


def ends(path: str) -> list[tuple[float, float]]:
    """Where each segment of a path ends, in the path's own space."""
    x = y = begin_x = begin_y = 0.0
    found = []
    for command, numbers in ((one.command, one.numbers) for one in segments_of(path)):
        origin = (x, y) if command.islower() else (0.0, 0.0)
        match command.upper():
            case "Z":
                x, y = begin_x, begin_y
            case "H":
                x = origin[0] + numbers[0]
            case "V":
                y = origin[1] + numbers[0]
            case _:
                x, y = origin[0] + numbers[-2], origin[1] + numbers[-1]
        if command in "Mm":
            begin_x, begin_y = x, y
        found.append((x, y))
    return found


@given(PATHS, st.integers(0, 3))
def test_a_shorter_path_ends_where_it_did_and_no_error_grows(path: str, decimals: int) -> None:
    short = short_path(path, decimals)
    assert len(short) <= len(path)
    for before, after in zip(ends(path), ends(short), strict=True):
        assert math.dist(before, after) <= 10.0**-decimals + 1e-6


@given(PATHS)
def test_a_path_that_may_not_move_keeps_every_number(path: str) -> None:
    short = short_path(path, None)
    assert len(short) <= len(path)
    for before, after in zip(segments_of(path), segments_of(short), strict=True):
        assert before.command.islower() == after.command.islower() or before.command in "Zz"
        kept = [number for number in after.numbers if number]
        assert kept == [number for number in before.numbers if number]


def test_paths_by_hand() -> None:
    assert short_path("M 10,10 L 20,10 L 20,20 L 10,20 z", 2) == "M10 10H20V20H10z"
    assert short_path("M0 0 C 1 1 2 2 3 3 C 4 4 5 5 6 6", 2) == "M0 0C1 1 2 2 3 3S5 5 6 6"
    assert short_path("m1-1.5.5.5a1 1 0 01.5.5", 2) == "m1-1.5.5.5a1 1 0 01.5.5", "flags may stand together"
    for wrong in ("L 1 1", "M 1", "M 1 1 X 2", "M 1 1 # 2", "10 10", "M 1 1 z 5"):
        assert short_path(wrong, 1) == wrong, "browsers draw such a path in part"


# -- styles ------------------------------------------------------------------------------------


def test_declarations_end_where_css_says() -> None:
    assert properties_of("fill:url('a;b');stroke : red ; ;fill:blue") == {"stroke": "red", "fill": "blue"}
    assert properties_of("background:url(data:a;b)") == {"background": "url(data:a;b)"}
    assert [properties_of(odd) for odd in ("fill:red;/* x */", "{", "no colon", "a:(b")] == [None] * 4


@given(st.text(max_size=60))
def test_any_style_is_read_or_left(style: str) -> None:
    found = properties_of(style)
    assert found is None or all(":" not in name for name in found)


@pytest.mark.parametrize(
    ("root", "size"),
    [
        (b'<svg width="12" height="8mm"', (12, 31)),
        (b'<svg viewBox="0 0 20.5 10" width="100%"', (21, 10)),
        (b"<svg", (0, 0)),
        (b'<svg viewBox="0 0 inf nan"', (0, 0)),
        (b'<svg width="1e999" height="-4"', (0, 0)),
        (b'<svg stroke-width="3" width="9999999999" height="1"', (1_000_000, 1)),
    ],
)
def test_the_size_that_a_drawing_states(root: bytes, size: tuple[int, int]) -> None:
    assert svg_size(root + b' xmlns="http://www.w3.org/2000/svg"><rect/></svg>') == size


def test_reading_takes_as_long_as_the_file_is() -> None:
    """Steps, counted: what is looked at for twice the drawing is at most 2.1 times as much."""
    import sys

    def steps(count: int) -> int:
        found = 0

        def trace(*_: object) -> None:
            nonlocal found
            found += 1

        inside = (
            '<path style="fill:#ff0000;stroke:none" d="M 0,0 L 1.50,1 C 2,2 3,3 4,4 z"/><g><g/></g>' * count
        )
        drawing = read_drawing(svg(inside))
        sys.setprofile(trace)
        try:
            written(cleaned(drawing, NOTHING, Tolerance(0.001)))
        finally:
            sys.setprofile(None)
        return found

    counted = [steps(count) for count in (40, 80, 160)]
    assert all(later <= 2.1 * earlier for earlier, later in pairwise(counted)), counted


@pytest.mark.parametrize(
    "inside",
    [
        lambda n: "<metadata/>" * n,
        lambda n: '<x xmlns="https://pen.example/ns"/>' * n,
        lambda n: "<g/>" * n,
        lambda n: "<g><rect/></g>" * n,
        lambda n: f'<rect style="fill:{"url(#" * n}"/>',
        lambda n: f'<rect x="{"1" * n}x" transform="{" " * n}x"/>',
        lambda n: f'<path d="{"1" * n}"/>',
        lambda n: f'<animate begin="{"a" * n}"/>',
        lambda n: f'<rect style="{"a" * n}(&quot;"/>',
    ],
)
def test_many_of_a_kind_cost_no_more_than_their_number(inside: Callable[[int], str]) -> None:
    """What would take minutes, were anything gone through again for each; the suite's bound on a test's
    processor time holds it."""
    drawing = read_drawing(svg(inside(60_000)))
    assert len(written(cleaned(drawing, NOTHING, Tolerance(0.001)))) > 40
