"""Documents: lighter within, drawn the same, read the same; what a change would break is left alone."""

from __future__ import annotations

import io
from collections.abc import Callable

import numpy as np
import pikepdf
import pypdfium2
import pytest
from fpdf import FPDF
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import treat
from plumcrate.imaging.errors import Damaged, ImagingError, LeftAlone
from plumcrate.imaging.identification import identify
from plumcrate.imaging.outcome import Chosen, Refused
from plumcrate.imaging.pdf import Looks
from plumcrate.imaging.pdf.document import MOST_PAGES
from plumcrate.imaging.pdf.places import shown_inches
from plumcrate.imaging.preview import preview
from plumcrate.imaging.recipe import Level, Limits, Recipe
from plumcrate.imaging.shapes import Size


def scene(seed: int, width: int = 480, height: int = 320) -> Image.Image:
    rng = np.random.default_rng(seed)
    painted = grain(rng, SCENES["headland"](rng, width, height, seed), 0.02)
    return Image.fromarray((painted.clip(0, 1) * 255).astype(np.uint8))


def stored(image: Image.Image, kind: str) -> io.BytesIO:
    out = io.BytesIO()
    image.save(out, kind, **({"quality": 95} if kind == "JPEG" else {}))
    return out


@pytest.fixture(scope="module")
def booklet() -> bytes:
    """Three pages with words, a link, an outline, a JPEG twice, and a photograph that lost nothing."""
    pdf = FPDF()
    pdf.set_title("Gannet Ledge Light")
    pdf.set_font("Helvetica", size=14)
    photograph, other = stored(scene(1), "JPEG"), stored(scene(2, 300, 200), "PNG")
    for number in range(3):
        pdf.add_page()
        pdf.start_section(f"Part {number + 1}")
        pdf.cell(text="The light is shown from sunset", link="https://gannet-ledge.example/")
        pdf.image(photograph if number < 2 else other, x=20, y=40, w=150)
    return bytes(pdf.output())


def made_of(data: bytes, level: Level = Level.EVERYDAY) -> Chosen:
    main = treat(data, Recipe(level)).main
    assert isinstance(main, Chosen)
    return main


def changed(data: bytes, change: Callable[[pikepdf.Pdf], None]) -> bytes:
    out = io.BytesIO()
    with pikepdf.open(io.BytesIO(data)) as pdf:
        change(pdf)
        pdf.save(out, fix_metadata_version=False)
    return out.getvalue()


def test_a_document_is_lighter_reads_the_same_and_looks_as_promised(booklet: bytes) -> None:
    made = made_of(booklet)
    assert made.size == len(made.data) < len(booklet) * 0.7
    assert made.how == "2 of 2 pictures lighter, packed anew"
    assert made.score is not None
    assert made.score >= 79.5
    before, after = Looks(booklet), Looks(made.data)
    assert after.outline == before.outline == ["Part 1", "Part 2", "Part 3"]
    for old, new in zip(before.pages(), after.pages(), strict=True):
        assert (old.words, old.size, old.notes) == (new.words, new.size, new.notes)
        assert "from sunset" in new.words
        assert new.notes == 1
    with pikepdf.open(io.BytesIO(made.data)) as pdf:
        assert str(pdf.docinfo["/Title"]) == "Gannet Ledge Light"
        filters = [
            str(one.Filter) for one in pdf.objects if isinstance(one, pikepdf.Stream) and "/Width" in one
        ]
    assert filters == ["/DCTDecode"] * 2, "the photograph that was packed without loss is a JPEG now"


def test_exact_changes_no_pixel_of_any_page(booklet: bytes) -> None:
    made = made_of(booklet, Level.EXACT)
    assert made.score == 100.0
    assert made_of(booklet, Level.EXACT).data == made.data, "the same each time"
    for old, new in zip(Looks(booklet).pages(), Looks(made.data).pages(), strict=True):
        assert old.pixels.same_as(new.pixels)
    again = treat(made.data, Recipe(Level.EXACT)).main
    assert isinstance(again, Refused) or again.size > made.size * 0.98


def test_what_stands_there_twice_is_kept_once(booklet: bytes) -> None:
    def double(pdf: pikepdf.Pdf) -> None:
        first, second = pdf.pages[0], pdf.pages[1]
        (name,) = second.Resources.XObject.keys()
        picture = next(iter(first.Resources.XObject.values()))
        copy = pikepdf.Stream(pdf, picture.read_raw_bytes())
        copy.stream_dict = pikepdf.Dictionary(dict(picture.stream_dict.items()))
        second.Resources.XObject[name] = pdf.make_indirect(copy)

    twice = changed(booklet, double)
    assert len(twice) > len(booklet) * 1.3
    assert made_of(twice, Level.EXACT).size < len(booklet)


def test_its_first_page_is_its_preview(booklet: bytes) -> None:
    assert identify(booklet).format == "pdf"
    width, height = identify(preview(booklet, 120, Limits())).shown_size
    assert (width, height) in ((120, 169), (120, 170), (119, 168), (119, 169))


def sign(pdf: pikepdf.Pdf) -> None:
    pdf.Root.AcroForm = pikepdf.Dictionary(SigFlags=3, Fields=pikepdf.Array())


def ask(pdf: pikepdf.Pdf) -> None:
    field = pdf.make_indirect(pikepdf.Dictionary(FT=pikepdf.Name.Tx, T="name"))
    pdf.Root.AcroForm = pikepdf.Dictionary(Fields=pikepdf.Array([field]))


def ask_aside(pdf: pikepdf.Pdf) -> None:
    """A field that no form knows of."""
    field = pikepdf.Dictionary(Type=pikepdf.Name.Annot, Subtype=pikepdf.Name.Widget, Rect=[0, 0, 9, 9])
    pdf.pages[2].Annots.append(pdf.make_indirect(field))


def certify(pdf: pikepdf.Pdf) -> None:
    pdf.Root.Perms = pikepdf.Dictionary()


def archive(pdf: pikepdf.Pdf) -> None:
    pdf.Root.Metadata = pdf.make_stream(
        b"<x xmlns:pdfaid='http://www.aiim.org/pdfa/ns/id/' pdfaid:part='2'/>"
    )


def lengthen(pdf: pikepdf.Pdf) -> None:
    for _ in range(MOST_PAGES):
        pdf.pages.append(pdf.pages[0])


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (sign, "signed"),
        (ask, "a form"),
        (ask_aside, "a form"),
        (certify, "certified"),
        (archive, "PDF/A"),
        (lengthen, "more than 500 pages"),
    ],
)
def test_what_a_change_would_break_is_left_alone(
    booklet: bytes, change: Callable[[pikepdf.Pdf], None], words: str
) -> None:
    with pytest.raises(LeftAlone, match=words):
        treat(changed(booklet, change), Recipe())


def test_what_is_locked_shaped_or_broken_says_so(booklet: bytes) -> None:
    out = io.BytesIO()
    with pikepdf.open(io.BytesIO(booklet)) as pdf:
        pdf.save(out, encryption=pikepdf.Encryption(owner="o", user="u"))
    with pytest.raises(LeftAlone, match="encrypted"):
        treat(out.getvalue(), Recipe())
    with pytest.raises(LeftAlone, match="not cut"):
        treat(booklet, Recipe(size=Size(20, 20)))
    with pytest.raises(Damaged, match="cannot be read"):
        treat(booklet[:200], Recipe())
    with pytest.raises(LeftAlone, match="viewers guess it"):
        treat(booklet[: booklet.rindex(b"xref")], Recipe())


@given(st.integers(0, 10_000), st.binary(min_size=1, max_size=8))
def test_a_document_with_other_bytes_anywhere_is_refused_or_still_as_promised(at: int, bytes_: bytes) -> None:
    out = io.BytesIO()
    with pikepdf.new() as pdf:
        pdf.add_blank_page(page_size=(200, 100))
        pdf.pages[0].Contents = pdf.make_stream(b"0 0 1 rg 20 20 60 40 re f " * 20)
        pdf.save(out)
    data = out.getvalue()
    place = at % len(data)
    odd = data[:place] + bytes_ + data[place + len(bytes_) :]
    try:
        main = treat(odd, Recipe(Level.EXACT)).main
    except ImagingError:
        return
    if isinstance(main, Chosen):
        before, after = (pypdfium2.PdfDocument(one)[0].render().to_numpy() for one in (odd, main.data))
        assert np.array_equal(before, after)


def with_pictures(*places: tuple[Image.Image, float]) -> bytes:
    """A page with pictures, each so many millimetres wide."""
    pdf = FPDF()
    pdf.add_page()
    for number, (image, wide) in enumerate(places):
        pdf.image(stored(image, "JPEG"), x=10, y=10 + 60 * number, w=wide)
    return bytes(pdf.output())


def sizes_in(data: bytes) -> list[tuple[int, int]]:
    with pikepdf.open(io.BytesIO(data)) as pdf:
        pictures = [one for one in pdf.objects if isinstance(one, pikepdf.Stream) and "/Width" in one]
        return sorted((int(one.Width), int(one.Height)) for one in pictures)


def test_pictures_get_the_resolution_that_their_place_asks_for() -> None:
    data = with_pictures((scene(1, 900, 600), 50.8), (scene(2, 300, 200), 76.2))
    made = treat(data, Recipe(document_ppi=150)).main
    assert isinstance(made, Chosen)
    assert sizes_in(made.data) == [(300, 200), (300, 200)]
    assert made.size < made_of(data).size * 0.6
    assert made.score is not None
    assert made.score >= 79.5
    assert sizes_in(made_of(data).data) == [(300, 200), (900, 600)]


def test_no_picture_loses_pixels_at_the_exact_level_or_for_a_little() -> None:
    data = with_pictures((scene(1, 900, 600), 50.8))
    exact = treat(data, Recipe(Level.EXACT, document_ppi=150)).main
    assert exact.size == 0 or sizes_in(getattr(exact, "data", data)) == [(900, 600)]
    assert shown_size(data, 400) == (900, 600)


def shown_size(data: bytes, ppi: int) -> tuple[int, int]:
    made = treat(data, Recipe(document_ppi=ppi)).main
    assert isinstance(made, Chosen)
    (size,) = sizes_in(made.data)
    return size


def test_the_largest_place_counts_also_within_forms_and_what_is_not_followed_keeps_its_pixels() -> None:
    data = with_pictures((scene(1, 900, 600), 50.8))

    def within_a_form(pdf: pikepdf.Pdf) -> None:
        page = pdf.pages[0]
        form = pikepdf.Stream(pdf, page.Contents.read_bytes())
        form.Type, form.Subtype = pikepdf.Name.XObject, pikepdf.Name.Form
        form.BBox, form.Matrix = [0, 0, 2_000, 2_000], [2, 0, 0, 2, 0, 0]
        form.Resources = page.Resources
        page.Contents = pikepdf.Stream(pdf, b"q /F Do Q")
        page.Resources = pikepdf.Dictionary(XObject=pikepdf.Dictionary(F=form))

    assert shown_size(data, 150) == (300, 200)
    assert shown_size(changed(data, within_a_form), 150) == (600, 400)

    def in_a_note(pdf: pikepdf.Pdf) -> None:
        page = pdf.pages[0]
        look = pikepdf.Stream(pdf, b"")
        look.Type, look.Subtype, look.BBox = pikepdf.Name.XObject, pikepdf.Name.Form, [0, 0, 9, 9]
        look.Resources = pikepdf.Dictionary(XObject=page.Resources.XObject)
        note = pikepdf.Dictionary(Type=pikepdf.Name.Annot, Subtype=pikepdf.Name.Stamp, Rect=[0, 0, 9, 9])
        note.AP = pikepdf.Dictionary(N=pdf.make_indirect(look))
        page.Annots = pikepdf.Array([pdf.make_indirect(note)])

    assert shown_size(changed(data, in_a_note), 150) == (900, 600)
    assert shown_size(changed(data, lambda pdf: setattr(pdf.pages[0], "UserUnit", 2)), 150) == (600, 400)


def test_forms_that_name_one_another_without_end_cost_little_and_keep_their_pixels() -> None:
    data = with_pictures((scene(1, 900, 600), 50.8))

    def trap(pdf: pikepdf.Pdf) -> None:
        page = pdf.pages[0]
        inner = page.Resources
        content = page.Contents.read_bytes()
        for _ in range(6):
            form = pikepdf.Stream(pdf, content)
            form.Type, form.Subtype = pikepdf.Name.XObject, pikepdf.Name.Form
            form.BBox, form.Resources = [0, 0, 2_000, 2_000], inner
            inner = pikepdf.Dictionary(XObject=pikepdf.Dictionary(F=pdf.make_indirect(form)))
            content = b"/F Do " * 60
        page.Resources, page.Contents = inner, pikepdf.Stream(pdf, b"/F Do")

    with pikepdf.open(io.BytesIO(changed(data, trap))) as pdf:
        assert shown_inches(pdf) == {}
