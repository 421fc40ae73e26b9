"""The WebP and AVIF encoders by themselves: every size and kind, what goes with a picture, the same bytes
again, and what Chromium shows."""

import base64
import io
import json
import subprocess
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageCms
from playwright.sync_api import Browser, sync_playwright

from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import Effort, Level, Recipe, avif, codecs, treat, webp
from plumcrate.imaging.avif import Content
from plumcrate.imaging.jpeg.transform import planes_of
from plumcrate.imaging.outcome import Chosen
from plumcrate.imaging.pixels import Pixels, decode
from plumcrate.imaging.recipe import Limits
from plumcrate.imaging.scoring.ssimulacra2 import Reference
from plumcrate.imaging.treatment.case import Case
from plumcrate.imaging.treatment.modern import half_chroma_will_do

PROFILE = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
EXIF = Image.Exif()
EXIF[0x8298] = "Gannet Ledge Light Trust"
SIZES = [(1, 1), (1, 2), (7, 5), (16, 16), (33, 17), (200, 131)]
SAMPLINGS = ["4:2:0", "4:4:4"]


def painting(width: int, height: int, *, alpha: bool = False) -> Image.Image:
    """A headland in paint, cut to a size."""
    painted = SCENES["headland"](np.random.default_rng(4), 320, 200, 1)
    rgb = np.resize((painted.clip(0, 1) * 255).astype(np.uint8)[:200, :320], (200, 320, 3))
    rgb = np.ascontiguousarray(np.tile(rgb, (1, -(-width // 320), 1))[:height, :width])
    if not alpha:
        return Image.fromarray(rgb)
    across, down = np.meshgrid(np.arange(width), np.arange(height))
    fading = ((across * 7 + down * 3) % 256).astype(np.uint8)
    return Image.fromarray(np.dstack([rgb, fading]))


def as_webp(image: Image.Image, step: int = 112, effort: Effort = Effort.NORMAL, **extras: bytes) -> bytes:
    values = np.asarray(image)
    alpha = np.ascontiguousarray(values[..., 3]) if values.shape[2] == 4 else None
    planes = webp.planes(np.ascontiguousarray(values[..., :3]), alpha)
    return codecs.encode_webp(planes, step, extras, effort)


def as_avif(
    image: Image.Image, sampling: str, *, step: int = 45, content: Content = Content.BUSY, **extras: bytes
) -> bytes:
    return avif.encode(image, step, extras, Effort.QUICK, sampling, content)


def opened(data: bytes) -> Image.Image:
    image = Image.open(io.BytesIO(data))
    image.load()
    return image


@pytest.mark.parametrize("alpha", [False, True])
@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("effort", Effort)
def test_webp_of_every_size_is_near_its_source_and_the_same_each_time(
    size: tuple[int, int], effort: Effort, alpha: bool
) -> None:
    image = painting(*size, alpha=alpha)
    data = as_webp(image, 122, effort)
    assert data == as_webp(image, 122, effort)
    shown, source = np.asarray(opened(data).convert("RGBA")).astype(int), np.asarray(image.convert("RGBA"))
    assert np.array_equal(shown[..., 3], source[..., 3]), "alpha stays exact"
    seen = source[..., 3] > 0
    assert not seen.any() or np.abs(shown[..., :3] - source[..., :3])[seen].mean() < 7


@pytest.mark.parametrize("sampling", SAMPLINGS)
@pytest.mark.parametrize("content", Content)
@pytest.mark.parametrize("size", SIZES)
def test_avif_of_every_size_is_near_its_source_and_the_same_each_time(
    size: tuple[int, int], content: Content, sampling: str
) -> None:
    image = painting(*size)
    data = as_avif(image, sampling, step=54, content=content)
    assert data == as_avif(image, sampling, step=54, content=content)
    apart = np.abs(np.asarray(opened(data).convert("RGB")).astype(int) - np.asarray(image))
    assert apart.mean() < 7


#: Decoders of AV1 that share no code with the one that shows pictures elsewhere here; libgav1 knows no 4:4:4.
OTHER_DECODERS = [("aom", "4:2:0"), ("aom", "4:4:4"), ("libgav1", "4:2:0")]


@pytest.mark.parametrize(("decoder", "sampling"), OTHER_DECODERS)
@pytest.mark.parametrize("alpha", [False, True])
@pytest.mark.parametrize("size", [(1, 1), (7, 5), (33, 17), (200, 131)])
def test_other_decoders_show_the_same(
    decoder: str, sampling: str, alpha: bool, size: tuple[int, int], tmp_path: Path
) -> None:
    data = as_avif(painting(*size, alpha=alpha), sampling, step=54)
    (tmp_path / "in.avif").write_bytes(data)
    command = ["avifdec", "--codec", decoder, str(tmp_path / "in.avif"), str(tmp_path / "out.png")]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr
    theirs = opened((tmp_path / "out.png").read_bytes())
    ours = opened(data)
    assert (theirs.size, theirs.has_transparency_data) == (size, alpha)
    apart = np.abs(np.asarray(theirs.convert("RGBA")).astype(int) - np.asarray(ours.convert("RGBA")))
    assert apart[..., 3].max() == 0, "alpha has no rounding"
    assert apart.mean() < 1, "colours are rounded in their own ways"


@pytest.mark.parametrize("sampling", SAMPLINGS)
def test_the_widest_pictures_are_encoded(sampling: str) -> None:
    assert opened(as_avif(painting(16_384, 2), sampling)).size == (16_384, 2)
    assert opened(as_webp(painting(webp.LIMIT, 3))).size == (webp.LIMIT, 3)


def test_wider_ones_are_refused_in_both_formats_and_the_file_is_treated_all_the_same() -> None:
    out = io.BytesIO()
    painting(16_385, 24).save(out, "PNG")
    treatment = treat(out.getvalue(), Recipe(Level.LEAN, effort=Effort.QUICK))
    assert {(one.format, getattr(one, "verdict", None)) for one in treatment.of("copy")} == {
        ("webp", "not-possible"),
        ("avif", "not-possible"),
    }
    assert treatment.size_after < len(out.getvalue())


@pytest.mark.parametrize("alpha", [False, True])
def test_a_webp_carries_profile_rights_and_packet(alpha: bool) -> None:
    extras = {"icc_profile": PROFILE, "exif": EXIF.tobytes(), "xmp": b"<x:xmpmeta>of the ledge</x:xmpmeta>"}
    image = painting(41, 30, alpha=alpha)
    data = as_webp(image, **extras)
    plain, carried = opened(as_webp(image)), opened(data)
    assert carried.info["icc_profile"] == PROFILE
    assert carried.getexif()[0x8298] == "Gannet Ledge Light Trust"
    assert carried.info["xmp"] == extras["xmp"]
    assert np.array_equal(np.asarray(plain), np.asarray(carried))
    assert int.from_bytes(data[4:8], "little") == len(data) - 8


@pytest.mark.parametrize("sampling", SAMPLINGS)
def test_an_avif_carries_profile_and_rights(sampling: str) -> None:
    data = as_avif(painting(41, 30), sampling, icc_profile=PROFILE, exif=EXIF.tobytes())
    assert opened(data).info["icc_profile"] == PROFILE
    assert opened(data).getexif()[0x8298] == "Gannet Ledge Light Trust"


@given(
    st.dictionaries(st.sampled_from(["icc_profile", "xmp"]), st.binary(min_size=1, max_size=99), min_size=1),
    st.booleans(),
)
def test_whatever_goes_with_a_webp_its_chunks_add_up(extras: dict[str, bytes], alpha: bool) -> None:
    image = painting(9, 6, alpha=alpha)
    data = as_webp(image, **extras)
    names, at = [], 12
    while at < len(data):
        size = int.from_bytes(data[at + 4 : at + 8], "little")
        names.append(data[at : at + 4])
        at += 8 + size + size % 2
    assert at == len(data)
    assert names[0] == b"VP8X"
    assert names.count(b"VP8 ") == 1
    assert (b"ALPH" in names) == alpha
    assert decode(data).size == (9, 6)


def test_hidden_colour_does_not_bleed_into_what_is_seen() -> None:
    rgba = np.zeros((32, 32, 4), np.uint8)
    rgba[:, :, 0] = 255  # red where nothing is seen
    rgba[:, 15:] = (20, 140, 60, 255)  # green where it is; the border lies within a pair of columns
    shown = np.asarray(opened(as_webp(Image.fromarray(rgba), 124)).convert("RGBA")).astype(int)
    assert np.abs(shown[:, 15:, :3] - (20, 140, 60)).max() <= 14


def test_moving_luma_for_half_chroma_pays() -> None:
    colours = np.array([(200, 60, 50), (60, 90, 200), (90, 160, 60)])
    image = Image.fromarray(colours.astype(np.uint8)[np.random.default_rng(1).integers(0, 3, (60, 80))])
    image = image.resize((320, 240), Image.Resampling.BICUBIC)
    reference = Reference(np.asarray(image))
    out = io.BytesIO()
    image.save(out, "WEBP", quality=round(codecs.webp_quality(120)), method=4)
    ours = next(data for step in range(122, 90, -1) if len(data := as_webp(image, step)) <= out.tell())
    assert reference.score(decode(ours).rgb) > reference.score(decode(out.getvalue()).rgb) + 0.5


def chroma(rgb: np.ndarray) -> np.ndarray:
    """The mean of Cb and Cr."""
    return np.array([plane.mean() for plane in planes_of(np.ascontiguousarray(rgb))[1:]])


@pytest.mark.parametrize("sampling", SAMPLINGS)
@pytest.mark.parametrize("colour", [(120, 140, 160), (128, 128, 128), (230, 190, 90), (60, 40, 90)])
def test_an_avif_has_no_tint(sampling: str, colour: tuple[int, int, int]) -> None:
    noise = np.random.default_rng(7).normal(0, 5, (128, 128, 3))
    rgb = np.clip(np.rint(np.array(colour) + noise), 0, 255).astype(np.uint8)
    tints = []
    for image in (Image.fromarray(rgb), avif.prepared(Pixels(rgb), sampling)):
        shown = np.asarray(opened(as_avif(image, sampling, step=54)).convert("RGB"))
        tints.append(chroma(shown) - chroma(rgb))
    plain, ours = tints
    assert (plain < -0.1).all(), "the library cuts chroma off; were it to round, avif.prepared should go"
    assert np.abs(ours).max() < 0.22


@given(st.integers(0, 10_000))
def test_luma_is_stored_as_it_is_meant(seed: int) -> None:
    rgb = np.random.default_rng(seed).integers(4, 252, (19, 23, 3), dtype=np.uint8)
    red, green, blue = np.asarray(avif.prepared(Pixels(rgb), "4:4:4")).astype(int).transpose(2, 0, 1)
    stored = (77 * red + 150 * green + 29 * blue + 128) >> 8
    assert np.array_equal(stored, np.rint(planes_of(rgb)[0] + np.float32(128)))
    steps = np.stack([red, green + 1, blue]) - rgb.transpose(2, 0, 1)
    assert (steps == steps[0]).all(), "all three samples alike, but for one less of green"
    assert np.abs(steps).max() <= 2


def test_extremes_stay_and_alpha_goes_along() -> None:
    alpha = np.arange(64, dtype=np.uint8).reshape(8, 8)
    for value in (0, 255):
        flat = np.full((8, 8, 3), value, np.uint8)
        for sampling in SAMPLINGS:
            shown = opened(as_avif(avif.prepared(Pixels(flat), sampling), sampling, step=60))
            assert (np.asarray(shown.convert("RGB")) == value).all()
    prepared = avif.prepared(Pixels(flat, alpha), "4:2:0")
    assert np.array_equal(np.asarray(prepared)[..., 3], alpha)


def test_qualities_and_quantizers_lead_back_to_each_other() -> None:
    qualities = [codecs.webp_quality(step) for step in range(128)]
    assert qualities == sorted(qualities)
    assert (qualities[0], qualities[127]) == (0, 100)
    for quality in range(20, 99):
        step = codecs.knob_of("webp", quality)
        assert abs(codecs.webp_quality(step) - quality) <= max(
            codecs.webp_quality(step + 1) - codecs.webp_quality(step), 0.6
        )


def test_a_picture_the_library_will_not_take_is_said_so() -> None:
    with pytest.raises(webp.WebpError):
        webp.encode(webp.planes(np.zeros((2, 2, 3), np.uint8)), 200.0, 4)
    with pytest.raises(webp.WebpError):
        webp.encode(webp.planes(np.zeros((1, webp.LIMIT + 1, 3), np.uint8)), 50.0, 4)


# -- which chroma ----------------------------------------------------------------------------


def case_of(rgb: np.ndarray, level: Level = Level.EVERYDAY) -> Case:
    out = io.BytesIO()
    Image.fromarray(rgb.astype(np.uint8)).save(out, "PNG")
    return Case(out.getvalue(), Recipe(level), Limits())


def test_colour_that_changes_from_pixel_to_pixel_is_kept_at_full_size() -> None:
    random = np.random.default_rng(2)
    grey = np.repeat(random.integers(60, 190, (96, 96, 1)), 3, axis=2)
    assert case_of(grey).half_chroma_lacks < 1
    assert half_chroma_will_do(case_of(grey))
    colours = np.array([(200, 30, 30), (30, 60, 200)])[random.integers(0, 2, (96, 96))]
    assert case_of(colours).half_chroma_lacks > 20
    assert not half_chroma_will_do(case_of(colours))


def test_gallery_keeps_full_chroma() -> None:
    grey = np.repeat(np.random.default_rng(2).integers(60, 190, (96, 96, 1)), 3, axis=2)
    assert not half_chroma_will_do(case_of(grey, Level.GALLERY))


def test_flat_art_is_told_from_photographs_and_busy_ones_from_calm() -> None:
    flat = np.full((96, 96, 3), 90)
    flat[20:60, 30:70] = (200, 190, 180)
    assert case_of(flat).content is Content.FLAT
    assert case_of(np.zeros((5, 1, 3))).content is Content.FLAT
    noise = np.random.default_rng(2).integers(60, 190, (96, 96, 3))
    assert case_of(noise).content is Content.BUSY
    down, across = np.mgrid[:96, :96]
    dusk = np.stack([across + 40, down + 60, across + down], axis=2)
    assert case_of(dusk).content is Content.CALM


@pytest.mark.parametrize("effort", Effort)
@pytest.mark.parametrize("content", Content)
def test_every_way_to_encode_an_avif_shows_the_picture(effort: Effort, content: Content) -> None:
    rgb = np.asarray(painting(200, 131))
    data = avif.encode(avif.prepared(Pixels(rgb), "4:2:0"), 50, {}, effort, "4:2:0", content)
    shown = np.asarray(opened(data).convert("RGB"))
    assert Reference(rgb).score(np.ascontiguousarray(shown)) > 75
    assert data == avif.encode(avif.prepared(Pixels(rgb), "4:2:0"), 50, {}, effort, "4:2:0", content)


def test_large_photographs_have_no_small_blocks_at_quick_effort() -> None:
    noise = np.random.default_rng(2).integers(60, 190, (1000, 1000, 3), dtype=np.uint8)
    for width, same in ((1000, False), (999, True)):
        image = Image.fromarray(noise[:, :width])
        quick, normal = (
            avif.encode(image, 40, {}, effort, "4:2:0", Content.BUSY)
            for effort in (Effort.QUICK, Effort.NORMAL)
        )
        assert (quick == normal) is same, "below a megapixel a busy picture is the same at both"


def test_a_target_that_half_chroma_cannot_reach_costs_no_webp_encode() -> None:
    random = np.random.default_rng(2)
    colours = np.array([(200, 30, 30), (30, 60, 200)])[random.integers(0, 2, (96, 96))]
    out = io.BytesIO()
    Image.fromarray(colours.astype(np.uint8)).save(out, "JPEG", quality=98, subsampling="4:4:4")
    (copy,) = treat(out.getvalue(), Recipe(copies=frozenset({"webp"}))).of("copy")
    assert (copy.verdict, copy.encodes) == ("out-of-reach", 0)  # type: ignore[attr-defined]


# -- what a browser shows ----------------------------------------------------------------------


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium",
            args=["--no-sandbox", "--disable-gpu", "--force-color-profile=srgb"],
        )
        yield browser
        browser.close()


_SHOWN = """async (address) => {
  const image = new Image();
  image.src = address;
  await image.decode();
  const canvas = document.createElement('canvas');
  [canvas.width, canvas.height] = [image.naturalWidth, image.naturalHeight];
  const context = canvas.getContext('2d');
  context.drawImage(image, 0, 0);
  const all = context.getImageData(0, 0, canvas.width, canvas.height).data;
  return JSON.stringify({size: [canvas.width, canvas.height], pixels: Array.from(all)});
}"""


@pytest.mark.parametrize("size", [(1, 1), (7, 5), (33, 17), (200, 131)])
def test_chromium_shows_what_pillow_decodes(browser: Browser, size: tuple[int, int]) -> None:
    image = painting(*size)
    kinds = [("webp", as_webp(image)), ("webp", as_webp(image, icc_profile=PROFILE, exif=EXIF.tobytes()))]
    kinds += [
        ("avif", as_avif(image, sampling, content=content)) for sampling in SAMPLINGS for content in Content
    ]
    page = browser.new_page()
    for kind, data in kinds:
        address = f"data:image/{kind};base64,{base64.b64encode(data).decode()}"
        shown = json.loads(page.evaluate(_SHOWN, address))
        assert shown["size"] == list(size)
        pixels = np.array(shown["pixels"]).reshape(size[1], size[0], 4)
        expected = np.asarray(opened(data).convert("RGBA")).astype(int)
        assert np.abs(pixels - expected).mean() < 2.5, kind
    page.close()


_PLAYED = """async ([type, data]) => {
  const bytes = Uint8Array.from(atob(data), (letter) => letter.charCodeAt(0));
  const decoder = new ImageDecoder({data: bytes, type});
  await decoder.tracks.ready;
  await decoder.completed;
  const track = decoder.tracks.selectedTrack;
  const times = [];
  for (let frameIndex = 0; frameIndex < track.frameCount; frameIndex++)
    times.push((await decoder.decode({frameIndex})).image.duration / 1000);
  return [track.repetitionCount === Infinity ? -1 : track.repetitionCount, times];
}"""


@pytest.mark.parametrize("repeats", [None, 0, 1, 4])
def test_chromium_plays_copies_as_often_and_as_long_as_the_gif(browser: Browser, repeats: int | None) -> None:
    frames = [painting(60, 40).rotate(9 * number) for number in range(5)]
    delays = [100, 250, 100, 1500, 40]
    out = io.BytesIO()
    loop = {} if repeats is None else {"loop": repeats}
    frames[0].save(out, "GIF", save_all=True, append_images=frames[1:], duration=delays, **loop)
    copies = treat(out.getvalue(), Recipe(Level.LEAN, keep_larger_copies=True)).of("copy")
    made = {copy.format: copy.data for copy in copies if isinstance(copy, Chosen)}
    assert made.keys() == {"webp", "avif"}
    page = browser.new_page()
    # Decoders are given to pages that came by https only.
    page.route("**", lambda route: route.fulfill(content_type="text/html", body="<p>"))
    page.goto("https://gannet-ledge.example/")
    kinds = {"gif": out.getvalue()} | made
    played = [
        page.evaluate(_PLAYED, [f"image/{kind}", base64.b64encode(data).decode()])
        for kind, data in kinds.items()
    ]
    page.close()
    assert played == [[{None: 0, 0: -1}.get(repeats, repeats), delays]] * 3


def test_a_picture_that_webp_has_no_room_for_costs_its_copy_only(monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> bytes:
        raise webp.WebpError("the first partition is full")

    monkeypatch.setattr(codecs, "encode_webp", full)
    out = io.BytesIO()
    painting(200, 131).save(out, "JPEG", quality=95)
    treatment = treat(out.getvalue(), Recipe(copies=frozenset({"webp"})))
    assert [one.verdict for one in treatment.of("copy")] == ["not-possible"]  # type: ignore[attr-defined]
    assert treatment.size_after < len(out.getvalue())
