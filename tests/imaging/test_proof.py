"""Nothing leaves a treatment that a decoder of somebody else's has not shown to be what it should be."""

import io

import numpy as np
import pytest
from outputs import data_of
from PIL import Image

from plumcrate.demo.painter.drawings import flashing_light
from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import Level, Limits, Recipe, pixels, treat
from plumcrate.imaging.jpeg.encode import Encoder
from plumcrate.imaging.pixels import decode, same_frames
from plumcrate.imaging.treatment import gif as gif_treatment
from plumcrate.imaging.treatment import png as png_treatment

ALONE = frozenset[str]()


def photo(width: int = 240, height: int = 160) -> Image.Image:
    rng = np.random.default_rng(2)
    painted = grain(rng, SCENES["headland"](rng, width, height, 1), 0.02)
    return Image.fromarray((painted.clip(0, 1) * 255).astype(np.uint8))


def saved(image: Image.Image, kind: str, **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def flashing_gif() -> bytes:
    frames = flashing_light(96, 64)
    return saved(frames[0], "GIF", save_all=True, append_images=frames[1:], duration=80, loop=0)


def test_a_search_for_scans_that_goes_wrong_is_not_believed(monkeypatch: pytest.MonkeyPatch) -> None:
    source = saved(photo(640, 480), "JPEG", quality=96)
    honest = data_of(treat(source, Recipe(Level.LEAN, copies=ALONE)).main)
    assert honest is not None
    wrong = saved(photo().point(lambda value: value // 2), "JPEG", quality=20)
    monkeypatch.setattr(Encoder, "encode", lambda _: wrong)
    treated = data_of(treat(source, Recipe(Level.LEAN, copies=ALONE)).main)
    assert treated is not None
    assert treated != wrong
    assert decode(treated).same_as(decode(honest))
    assert len(treated) >= len(honest), "the sequential file that was scored is what is left"


def test_a_resized_png_that_does_not_decode_to_its_pixels_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    source = saved(photo(), "PNG")
    recipe = Recipe(Level.EXACT, copies=ALONE, largest=(100, 100))
    assert data_of(treat(source, recipe).main) is not None
    wrong = saved(Image.new("RGB", (100, 67), "teal"), "PNG")
    monkeypatch.setattr(png_treatment, "encode_picture", lambda *_: wrong)
    assert data_of(treat(source, recipe).main) is None


def test_a_gif_that_another_decoder_shows_otherwise_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    source = flashing_gif()
    assert data_of(treat(source, Recipe(copies=ALONE)).main) is not None
    wrong = saved(Image.new("P", Image.open(io.BytesIO(source)).size), "GIF")
    monkeypatch.setattr(gif_treatment, "recompress", lambda *_: wrong)
    assert data_of(treat(source, Recipe(copies=ALONE)).main) is None


@pytest.mark.parametrize("kind", ["JPEG", "PNG", "GIF"])
def test_frames_are_compared_one_by_one(kind: str) -> None:
    image = photo().quantize(32) if kind == "GIF" else photo()
    first = saved(image, kind)
    assert same_frames(first, first, Limits())
    changed = image.copy()
    changed.putpixel((7, 5), 3 if kind == "GIF" else (0, 255, 0))
    changed.paste(changed.crop((0, 0, 40, 40)), (100, 100))
    assert not same_frames(first, saved(changed, kind), Limits())
    assert not same_frames(first, first[: len(first) // 2], Limits())
    assert not same_frames(first, saved(image.resize((60, 40)), kind), Limits())


def test_an_animation_with_one_frame_changed_is_not_the_same() -> None:
    frames = [photo().rotate(number).quantize(16) for number in range(4)]
    first = saved(frames[0], "GIF", save_all=True, append_images=frames[1:], duration=80)
    frames[2] = photo().rotate(45).quantize(16)
    assert not same_frames(
        first, saved(frames[0], "GIF", save_all=True, append_images=frames[1:], duration=80), Limits()
    )
    assert not same_frames(
        first, saved(frames[0], "GIF", save_all=True, append_images=frames[1:3], duration=80), Limits()
    )


@pytest.mark.parametrize("kind", ["JPEG", "PNG"])
@pytest.mark.parametrize("level", [Level.EXACT, Level.LEAN])
def test_the_machines_own_limit_is_the_only_one(
    monkeypatch: pytest.MonkeyPatch, kind: str, level: Level
) -> None:
    source = saved(photo(), kind, quality=96)
    usual = treat(source, Recipe(level))
    # As if the picture were above the usual limit.
    monkeypatch.setattr(pixels, "Limits", lambda: Limits(1000))
    assert treat(source, Recipe(level), Limits(100_000)) == usual


def test_lossless_animated_copies_are_compared_in_every_frame(monkeypatch: pytest.MonkeyPatch) -> None:
    from plumcrate.imaging import codecs
    from plumcrate.imaging.treatment import animation

    encode = codecs.encode_animation

    def one_frame_wrong(
        frames: list[Image.Image], kind: str, delays: list[int], plays: int, quality: int | None, colour: str
    ) -> bytes:
        frames = list(frames)
        if quality is None:
            frames[len(frames) // 2 + 1] = frames[0]
        return encode(frames, kind, delays, plays, quality, colour)

    source = flashing_gif()
    monkeypatch.setattr(animation.codecs, "encode_animation", one_frame_wrong)
    recipe = Recipe(Level.EXACT, copies=frozenset({"webp"}), keep_larger_copies=True)
    (copy,) = treat(source, recipe).of("copy")
    assert data_of(copy) is None
