"""What is wanting of a text, and what could be said instead: without a database."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.contract.descriptions import (
    DescriptionRule,
    DescriptionSettings,
    Replacing,
    Texts,
    TextSource,
)
from plumcrate.descriptions.bulk import replaced
from plumcrate.descriptions.languages import language_of
from plumcrate.descriptions.rules import Terms, faults_of, fold_of, reason_of, words_of
from plumcrate.descriptions.suggesting import KnownText, from_name, suggestions_of

GOOD = (
    "The lamp room of Gannet Ledge at dusk, its lens lit from within",
    "Keeper Ada Marsh rows two visitors to the landing",
    "Tide chart for the first week of June",
    "Gannets on the east ledge",
    "Lamp",
)


def faults(text: str, *, path: str = "2026/IMG_2041.jpg", language: str = "en", terms: str = "") -> list[str]:
    known = Terms.of([term.split() for term in terms.split(",") if term])
    settings = DescriptionSettings()
    found = faults_of(Texts(alternative=text), path=path, language=language, settings=settings, terms=known)
    return [str(fault) for fault in found]


@pytest.mark.parametrize("text", GOOD)
def test_a_text_that_says_what_the_picture_says_is_let_be(text: str) -> None:
    assert faults(text) == []


@pytest.mark.parametrize(
    ("text", "fault"),
    [
        ("IMG_2041", "file-name"),
        ("DSC00412", "file-name"),
        ("20260711_101500", "file-name"),
        ("tower-at-dusk.jpg", "file-name"),
        ("x" * 126, "too-long"),
        ("Image of the tower", "opening"),
        ("A photo of the tower", "opening"),
        ("Picture: the tower", "opening"),
        ("Bild von dem Turm", "opening"),
        ("Photo d'un phare", "opening"),
        ("lighthouse, tower, sea, rock, coast, tourism", "stuffed"),
        ("Lighthouse visit: lighthouse tours at the lighthouse", "stuffed"),
        ("Der Turm mit dem Licht und die See am Abend", "language"),
        ("Le phare et la mer sur la côte avec les oiseaux", "language"),
    ],
)
def test_each_rule_finds_its_fault(text: str, fault: str) -> None:
    assert fault in faults(text)
    assert reason_of(DescriptionRule(fault), DescriptionSettings()).endswith(".")


def test_an_empty_text_is_missing_and_nothing_else() -> None:
    assert faults("") == []


def test_a_name_that_somebody_gave_with_care_is_no_fault() -> None:
    assert faults("The lamp room", path="2026/The lamp room.jpg") == []
    assert faults("lamp-room", path="2026/lamp-room.jpg") == ["file-name"]


def test_more_than_two_search_terms_are_too_many() -> None:
    terms = "lighthouse,open day,boat trip"
    assert faults("A boat trip past the lighthouse", terms=terms) == []
    assert faults("A boat trip to the open day at the lighthouse", terms=terms) == ["stuffed"]


def test_a_text_in_its_own_language_is_in_the_right_one() -> None:
    assert faults("Der Turm mit dem Licht und die See am Abend", language="de-CH") == []


@pytest.mark.parametrize("text", ["", "Gannet Ledge", "in on", "Portland Bill 1911"])
def test_a_short_text_is_of_no_language(text: str) -> None:
    assert language_of(words_of(text)) is None


@given(st.text(alphabet=st.characters(exclude_categories=["Cs", "Cc"]), max_size=400), st.text(max_size=60))
def test_any_text_is_judged_and_each_fault_once(text: str, path: str) -> None:
    found = faults(text, path=path)
    assert len(found) == len(set(found))
    assert ("too-long" in found) == (len(text) > 125)


@given(st.text(alphabet="abc XYZ.,", max_size=60))
def test_case_and_punctuation_make_no_other_text(text: str) -> None:
    shouted = text.upper().replace(",", " . ") + " "
    assert fold_of(text) == fold_of(shouted)
    assert (fold_of(text) is None) == (not words_of(text))


@pytest.mark.parametrize(
    ("path", "said"),
    [
        ("2026/gannet_colony-east_1200x800.jpg", "Gannet colony east"),
        ("open-day-2026-scaled.jpg", "Open day 2026"),
        ("a/lamp.room@2x.png", "Lamp room"),
        ("great-lens-15.jpg", "Great lens"),
        ("IMG_2041.jpg", None),
        ("a/0f3c9a7b12.jpg", None),
        ("x/12-13-14.jpg", None),
    ],
)
def test_a_file_name_is_taken_apart_where_it_has_words(path: str, said: str | None) -> None:
    assert [one.text for one in from_name(path)] == ([] if said is None else [said])


def test_suggestions_name_their_source_and_come_once() -> None:
    known = [
        KnownText(TextSource.PAGE_HEADING, "Visit us", "https://ledge.example/visit"),
        KnownText(TextSource.XMP_CAPTION, "The lamp room in June"),
        KnownText(TextSource.IPTC_CAPTION, "The lamp room in June."),
        KnownText(TextSource.XMP_CREDIT, "Ada Marsh"),
        KnownText(TextSource.PAGE_ALTERNATIVE, "lamp-room"),
    ]
    found = [(one.field, one.source, one.text) for one in suggestions_of("lamp-room.jpg", known)]
    assert found == [
        ("alternative", "xmp-caption", "The lamp room in June"),
        ("alternative", "page-heading", "Visit us"),
        ("alternative", "file-name", "Lamp room"),
        ("title", "file-name", "Lamp room"),
        ("caption", "xmp-caption", "The lamp room in June"),
        ("credit", "xmp-credit", "Ada Marsh"),
    ]


@given(st.text(max_size=80), st.text(min_size=1, max_size=5), st.text(max_size=5), st.booleans())
def test_replacing_with_case_is_what_python_does(text: str, find: str, by: str, whole: bool) -> None:
    deed = Replacing.model_construct(
        do="replace", find=find, replacement=by, match_case=True, whole_words=False
    )
    assert replaced(text, deed) == text.replace(find, by)
    same = deed.model_copy(update={"replacement": find, "match_case": whole, "whole_words": whole})
    assert len(replaced(text, same)) == len(text)


def test_replacing_heeds_words_and_passes_case_by() -> None:
    deed = Replacing(do="replace", find="tower", replacement="lighthouse")
    assert replaced("The Tower and its towers", deed) == "The lighthouse and its lighthouses"
    deed = deed.model_copy(update={"whole_words": True})
    assert replaced("The Tower and its towers", deed) == "The lighthouse and its towers"
