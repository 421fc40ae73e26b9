"""Which paths from outside are let in."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.storage.errors import StorageError
from plumcrate.storage.names import MOST_PATH, checked, fault_of, fault_of_new, shown

GOOD = ("a.jpg", "2025/07/an ünusual näme.jpg", "a/" * 200 + "x.png", "C++ & co, 100%.png", "日本.webp")
BAD = {
    "": "inside",
    "/a.jpg": "inside",
    "a//b.jpg": "inside",
    "../a.jpg": "inside",
    "a/../b.jpg": "inside",
    "./a.jpg": "inside",
    "a/": "inside",
    "shell.php\0.jpg": "control",
    "a\nb.jpg": "control",
    "a\x9bb.jpg": "control",
    "a\ud800.jpg": "UTF-8",
    "x" * 252 + ".jpg": "255",
    "😀/" * 660 + "a.jpg": "2,000",
}
NEW = {
    ".hidden.jpg": "hidden",
    "a/.plumcrate-0123": "hidden",
    "a .jpg/ b.jpg": "space",
    "a/b.jpg.": "dot",
    "cafe\u0301.jpg": "composed",
    "a\\b.jpg": "backslash",
}


@pytest.mark.parametrize("path", GOOD)
def test_names_that_people_give(path: str) -> None:
    assert (fault_of(path), fault_of_new(path), checked(path)) == (None, None, path)


@pytest.mark.parametrize("path", BAD)
def test_names_that_are_refused_everywhere(path: str) -> None:
    assert BAD[path] in (fault_of(path) or "")
    assert fault_of_new(path) == fault_of(path)
    with pytest.raises(StorageError) as caught:
        checked(path)
    assert caught.value.code == ("name-too-long" if "longer" in str(caught.value) else "bad-name")
    str(caught.value).encode()


@pytest.mark.parametrize("path", NEW)
def test_names_that_may_stand_in_a_library_but_are_not_made(path: str) -> None:
    assert fault_of(path) is None
    assert NEW[path] in (fault_of_new(path) or "")


@given(st.text(st.characters(), max_size=400))
def test_whatever_passes_can_be_used_and_whatever_is_shown_is_tame(path: str) -> None:
    if fault_of(path) is None:
        assert len(path.encode()) <= MOST_PATH
        assert "\0" not in path
        assert not {"", ".", ".."} & set(path.split("/"))
    tame = shown(path)
    assert tame.isprintable() or not tame
    assert len(tame) <= 120
