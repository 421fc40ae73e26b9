"""Which files belong together, and patterns that make no sense."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.storage.grouping import USUAL_PATTERNS, PatternError, PixelSize, compile_pattern, group

BIG, SMALL = PixelSize(2000, 1000), PixelSize(640, 320)


@pytest.mark.parametrize(
    "rendition",
    [
        "2025/06/ledge-640x320.jpg",
        "2025/06/ledge_640x320.jpg",
        "2025/06/ledge-640w.jpg",
        "2025/06/ledge.width-640.jpg",
        "2025/06/640x320/ledge.jpg",
        "2025/06/thumbs/ledge.jpg",
    ],
)
def test_usual_conventions(rendition: str) -> None:
    files = {"2025/06/ledge.jpg": BIG, rendition: SMALL, "2025/07/ledge.jpg": BIG}
    assert group(files, USUAL_PATTERNS) == {rendition: "2025/06/ledge.jpg"}


def test_the_name_must_agree_with_the_pixels() -> None:
    files = {
        "a.jpg": BIG,
        "a-640x320.jpg": PixelSize(500, 250),
        "a-4000w.jpg": PixelSize(4000, 2000),
        "a-320w.jpg": PixelSize(160, 320),
    }
    assert group(files, USUAL_PATTERNS) == {"a-320w.jpg": "a.jpg"}, "turned pixels count, other sizes do not"


def test_a_rendition_needs_its_original_and_unreadable_files_go_by_name() -> None:
    assert group({"a-640w.jpg": SMALL}, USUAL_PATTERNS) == {}
    assert group({"a.png": BIG, "a-640w.jpg": SMALL}, USUAL_PATTERNS) == {}
    assert group({"a.jpg": PixelSize(0, 0), "a-640w.jpg": SMALL}, USUAL_PATTERNS) == {"a-640w.jpg": "a.jpg"}


def test_renditions_of_renditions_belong_to_the_first_original() -> None:
    files = {"a.jpg": BIG, "a-640w.jpg": SMALL, "a-640w-320w.jpg": PixelSize(320, 160)}
    assert set(group(files, USUAL_PATTERNS).values()) == {"a.jpg"}


def test_own_patterns() -> None:
    assert group({"a.jpg": BIG, "sizes/a_m.jpg": SMALL}, ["sizes/{stem}_m{ext}"]) == {
        "sizes/a_m.jpg": "a.jpg"
    }


@pytest.mark.parametrize(
    "pattern", ["{stem}{ext}", "x-{width}", "{stem}-{colour}{ext}", "{stem}{stem}{ext}", "{stem}/a{ext}"]
)
def test_patterns_that_cannot_be_used(pattern: str) -> None:
    with pytest.raises(PatternError, match=r"\{"):
        compile_pattern(pattern)


@given(st.dictionaries(st.text("ab-x640w._/", min_size=1, max_size=20), st.just(SMALL), max_size=12))
def test_any_names_at_all(files: dict[str, PixelSize]) -> None:
    for rendition, original in group(files, USUAL_PATTERNS).items():
        assert rendition in files
        assert original in files
        assert original != rendition or len(files) < 2
