"""Which form a request gets, by what it says it accepts."""

from __future__ import annotations

from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.delivery.negotiation import accept_of, choose


@dataclass(frozen=True)
class Form:
    media_type: str
    size: int
    own: bool = False


JPEG, WEBP, AVIF = Form("image/jpeg", 1000, own=True), Form("image/webp", 700), Form("image/avif", 500)
FORMS = (JPEG, AVIF, WEBP)

#: What browsers send for a picture.
CHROME = "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8"
SAFARI_14 = "image/webp,image/png,image/svg+xml,image/*;q=0.8,video/*;q=0.8,*/*;q=0.5"
OLD = "image/png, image/svg+xml, image/*;q=0.8, */*;q=0.5"


@pytest.mark.parametrize(
    ("header", "wanted"),
    [
        (None, JPEG),
        ("", JPEG),
        ("*/*", JPEG),
        ("image/*", JPEG),
        (CHROME, AVIF),
        (SAFARI_14, WEBP),
        (OLD, JPEG),
        ("image/webp", WEBP),
        ("IMAGE/WebP", WEBP),
        ("image/webp;q=0", JPEG),
        ("image/avif;q=0, image/webp", WEBP),
        ("image/avif;q=0,image/webp;q=0,*/*", JPEG),
        ("image/avif;q=0.5,image/webp;q=0.9", WEBP),
        ("image/avif;q=0.9,image/webp;q=0.9", AVIF),
        ("image/jpeg,image/webp;q=0.5", JPEG),
        ("image/jpeg;q=0.5,image/webp;q=0.5", WEBP),
        ("image/jpeg;q=0.1,image/webp;q=0.2", WEBP),
        ("image/avif;q=0.001", AVIF),
        ("image/avif;q=0.0001", JPEG),
        ("image/avif;q=2", JPEG),
        ("image/avif;q=-1", JPEG),
        ("image/avif;q=,image/webp", WEBP),
        ("image/avif;Q=0.4,image/webp;q=0.6", WEBP),
        ("image/avif ; q=0.7 , image/webp ; q=0.6", AVIF),
        ("image/avif;level=1;q=0.5,image/webp;q=0.4", AVIF),
        ("*/webp,image/avif", AVIF),
        ("avif,webp", JPEG),
        ("image/avif image/webp", JPEG),
        (",,,image/webp,,", WEBP),
        ("image/png", JPEG),
        ("text/html", JPEG),
        ("image/webp," * 64 + "image/avif", JPEG),
        ("image/webp" + " " * 5000, JPEG),
    ],
)
def test_the_form_that_a_browser_gets(header: str | None, wanted: Form) -> None:
    assert choose(FORMS, header) == wanted


def test_a_copy_heavier_than_the_file_is_for_nobody() -> None:
    heavy = Form("image/avif", 1000)
    assert choose((JPEG, heavy, WEBP), CHROME) == WEBP
    assert choose((JPEG, heavy), CHROME) == JPEG


def test_the_order_of_the_forms_does_not_matter() -> None:
    for forms in ((JPEG, AVIF, WEBP), (WEBP, AVIF, JPEG), (AVIF, JPEG, WEBP)):
        assert choose(forms, CHROME) == AVIF


PARTS = st.sampled_from(
    [
        "image/avif",
        "image/webp",
        "image/*",
        "*/*",
        "text/html",
        "avif",
        ",",
        ";",
        "q=0",
        ";q=0.5",
        ";q=1",
        ";q=x",
        " ",
        "=",
        "image/jpeg",
        "\u00e9",
        "\x00",
    ]
)


@given(st.lists(PARTS, max_size=20).map("".join))
def test_any_header_gets_a_form_and_a_refused_one_is_never_sent(header: str) -> None:
    chosen = choose(FORMS, header)
    assert chosen in FORMS
    if not chosen.own:
        assert (accept_of(header).named(chosen.media_type) or 0) > 0
        assert chosen.media_type in header.lower()
