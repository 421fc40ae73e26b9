"""Which files belong together, and patterns that make no sense."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.storage.grouping import (
    USUAL_PATTERNS,
    PatternError,
    PixelSize,
    compile_pattern,
    conventions_of,
    group,
    homes_of,
)

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


# -- layouts of content-management systems -----------------------------------------------------------

KITE = "2025/06/kite at the ledge.jpg"
LAYOUTS = {
    "dimensions behind the name": (
        KITE,
        ["2025/06/kite at the ledge-640x320.jpg", "2025/06/kite at the ledge-300x150.jpg"],
    ),
    "a chain of filters, in a folder beside": (
        "media/original_images/Kite_at.v2.jpg",
        [
            "media/images/Kite_at.v2.width-640.jpg",
            "media/images/Kite_at.v2.2e16d0ba.fill-640x320-c50.jpg",
            "media/images/Kite_at.v2.fill-640x320.format-webp.webpquality-80.webp",
            "media/images/Kite_at.v2.original.png",
        ],
    ),
    "a folder for each style": (
        f"files/{KITE}",
        [f"files/styles/wide/public/{KITE}", f"files/styles/card_2x/public/{KITE}.webp"],
    ),
    "a cache of folders": (
        "image/catalog/kite.jpg",
        ["image/cache/catalog/kite-640x320.jpg", "image/cache/catalog/kite-640x320.webp"],
    ),
    "a word before the name": (
        "uploads/kite_9f8e.jpg",
        ["uploads/small_kite_9f8e.jpg", "uploads/thumbnail_kite_9f8e.jpg", "uploads/large_kite_9f8e.jpg"],
    ),
    "folders by size": ("2025/kite.jpg", ["2025/640x320/kite.jpg", "2025/thumbs/kite.jpg"]),
}


@pytest.mark.parametrize("layout", LAYOUTS)
def test_every_rendition_of_usual_layouts_finds_its_original(layout: str) -> None:
    """Among other pictures of like names in the same folders, of which none is taken for another's."""
    original, renditions = LAYOUTS[layout]
    others = {
        f"{original.rpartition('.')[0]}{ending}": BIG for ending in ("2.jpg", "-and-tower.jpg", ".v3.jpg")
    }
    files = others | {original: BIG} | dict.fromkeys(renditions, SMALL)
    files = {path: PixelSize(300, 150) if "300x150" in path else size for path, size in files.items()}
    assert group(files, USUAL_PATTERNS) == dict.fromkeys(renditions, original)


def test_a_name_that_was_cut_belongs_to_the_only_original_that_begins_so() -> None:
    long, other = "original_images/the_keeper_and_the_lamp_in_winter.jpg", "original_images/the_keepers.jpg"
    cut = "images/the_keeper_and_the_lamp.width-300.jpg"
    assert group({long: BIG, other: BIG, cut: SMALL}, USUAL_PATTERNS) == {cut: long}
    second = "original_images/the_keeper_and_the_lamp_in_spring.jpg"
    assert group({long: BIG, second: BIG, cut: SMALL}, USUAL_PATTERNS) == {}, "two begin so: nobody knows"
    short = "images/the.width-300.jpg"
    assert group({long: BIG, short: SMALL}, USUAL_PATTERNS) == {}, "too little is left of the name"


def test_a_rendition_larger_than_its_original_is_a_picture_of_its_own() -> None:
    files = {"original_images/a.jpg": SMALL, "images/a.width-2000.jpg": BIG}
    assert group(files, USUAL_PATTERNS) == {}


@pytest.mark.parametrize(
    ("folder", "homes"),
    [
        ("media/images", {"media/original_images"}),
        ("files/styles/wide/public/2025/06", {"files/2025/06"}),
        ("image/cache/catalog", {"image/catalog"}),
        ("2025/640x320", {"2025"}),
        ("", set()),
        ("2025", set()),
    ],
)
def test_where_originals_of_a_folder_may_lie(folder: str, homes: set[str]) -> None:
    assert homes_of(folder, conventions_of(USUAL_PATTERNS)) == {folder} | homes


@pytest.mark.parametrize(
    "pattern",
    [
        "{stem}{ext} ->",
        "originals/{stem} -> {stem}{ext}",
        "{folder}{stem}{ext} -> images/{stem}{ext}",
        "a/{width}/{stem}{ext} -> b/{stem}{ext}",
        "{cut}.{filters}{any}",
        "{folder}{stem}-x{ext}",
    ],
)
def test_arrows_that_cannot_be_used(pattern: str) -> None:
    with pytest.raises(PatternError):
        compile_pattern(pattern)
