"""The photographs: headlands, seas, rocks, the tower by day and night, open days.

Each scene returns (height, width, 3) float32 in 0 to 1, sRGB.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFilter

from .noise import F32, fractal, ridged

Rng = np.random.Generator
Colour = tuple[float, float, float]

_SKIES: tuple[tuple[Colour, Colour], ...] = (
    ((0.30, 0.50, 0.78), (0.80, 0.88, 0.94)),
    ((0.45, 0.55, 0.66), (0.78, 0.80, 0.82)),
    ((0.22, 0.24, 0.42), (0.96, 0.62, 0.38)),
    ((0.55, 0.42, 0.55), (0.98, 0.80, 0.62)),
)


def _mix(low: Colour, high: Colour, amount: F32) -> F32:
    t = np.clip(amount, 0, 1)[..., None]
    return (1 - t) * np.asarray(low, np.float32) + t * np.asarray(high, np.float32)


def _sky(rng: Rng, width: int, height: int, mood: int) -> F32:
    top, bottom = _SKIES[mood % len(_SKIES)]
    ramp = np.linspace(0, 1, height, dtype=np.float32)[:, None] + np.zeros((1, width), np.float32)
    sky = _mix(top, bottom, ramp**1.3)
    clouds = fractal(rng, width, height, largest=height / 2, smallest=4, stretch=2.2, roughness=0.58)
    cover = np.clip((clouds - 0.05) * 2.2, 0, 0.85)
    return (
        sky * (1 - cover[..., None])
        + _mix((0.62, 0.64, 0.70), (0.98, 0.97, 0.95), clouds + 0.3) * cover[..., None]
    )


def _sea(rng: Rng, width: int, height: int, mood: int) -> F32:
    depth = np.linspace(0.15, 1, height, dtype=np.float32)[:, None]
    swell = fractal(rng, width, height, largest=height / 3, smallest=2, stretch=3.5, roughness=0.68)
    chop = fractal(rng, width, height, largest=24, smallest=1.6, stretch=2.0, roughness=0.75)
    tone = 0.5 + 0.33 * swell * depth + 0.30 * chop * depth
    sea = _mix((0.05, 0.16, 0.22), (0.42, 0.56, 0.60), tone)
    foam = ridged(swell + 0.25 * chop) ** 6 * depth
    glitter = np.clip(chop * depth - 0.55, 0, 1) * (1.4 if mood % 4 == 2 else 0.7)
    warm: Colour = (1.0, 0.82, 0.6) if mood % 4 >= 2 else (0.95, 0.97, 1.0)
    lit = np.clip(0.75 * foam + glitter, 0, 1)[..., None]
    return sea * (1 - lit) + np.asarray(warm, np.float32) * lit


def _rock(rng: Rng, width: int, height: int) -> F32:
    form = fractal(rng, width, height, largest=height / 2, smallest=1.6, roughness=0.66)
    crack = ridged(fractal(rng, width, height, largest=height / 4, smallest=3, roughness=0.5)) ** 4
    light = form - np.roll(form, 3, axis=0) * 0.8
    rock = _mix((0.13, 0.11, 0.10), (0.58, 0.52, 0.46), 0.42 + 0.9 * light + 0.25 * form)
    lichen = np.clip(fractal(rng, width, height, largest=60, smallest=2, roughness=0.7) - 0.35, 0, 0.6)
    rock = rock * (1 - lichen[..., None]) + np.asarray((0.72, 0.62, 0.24), np.float32) * lichen[..., None]
    return rock * (1 - 0.75 * crack[..., None])


def _grass(rng: Rng, width: int, height: int) -> F32:
    blades = fractal(rng, width, height, largest=40, smallest=1.5, stretch=0.35, roughness=0.8)
    patches = fractal(rng, width, height, largest=height / 2, smallest=16)
    return _mix((0.10, 0.18, 0.05), (0.52, 0.60, 0.26), 0.45 + 0.45 * blades + 0.25 * patches)


def _soft_mask(width: int, height: int, draw: Callable[[ImageDraw.ImageDraw], None], blur: float) -> F32:
    image = Image.new("L", (width, height), 0)
    draw(ImageDraw.Draw(image))
    if blur:
        image = image.filter(ImageFilter.GaussianBlur(blur))
    return np.asarray(image, np.float32) / 255


def _blend(base: F32, top: F32 | Colour, mask: F32) -> F32:
    return base * (1 - mask[..., None]) + np.asarray(top, np.float32) * mask[..., None]


def _tower(rng: Rng, picture: F32, foot: tuple[int, int], size: int, *, lit: bool = False) -> F32:
    """The lighthouse: a tapering banded tower with its lantern, lit from one side."""
    height, width, _ = picture.shape
    x, y = foot
    half, waist = 0.13 * size, 0.085 * size
    top = y - size

    def body(draw: ImageDraw.ImageDraw) -> None:
        draw.polygon([(x - half, y), (x + half, y), (x + waist, top), (x - waist, top)], fill=255)

    def lantern(draw: ImageDraw.ImageDraw) -> None:
        draw.rectangle((x - waist * 1.35, top - 0.02 * size, x + waist * 1.35, top + 0.015 * size), fill=255)
        draw.polygon(
            [(x - waist, top - 0.15 * size), (x, top - 0.24 * size), (x + waist, top - 0.15 * size)], fill=255
        )

    def glass(draw: ImageDraw.ImageDraw) -> None:
        draw.rectangle((x - waist * 0.8, top - 0.15 * size, x + waist * 0.8, top - 0.02 * size), fill=255)

    soft = max(0.7, size / 700)
    across = (np.arange(width, dtype=np.float32) - x) / half
    shade = np.clip(0.95 - 0.34 * (across + 0.25) ** 2 - 0.22 * across, 0.25, 1.0)
    plaster = fractal(rng, width, height, largest=max(8, size / 8), smallest=1.6, stretch=0.6, roughness=0.7)
    tone = shade[None, :] + 0.05 * plaster
    white = tone[..., None] * np.asarray((0.95, 0.93, 0.88), np.float32)
    red = tone[..., None] * np.asarray((0.66, 0.16, 0.14), np.float32)
    up = (y - np.arange(height, dtype=np.float32))[:, None] / size
    banded = np.where(((up * 5).astype(int) % 2 == 1)[..., None], red, white)
    picture = _blend(picture, banded, _soft_mask(width, height, body, soft))
    picture = _blend(picture, (0.12, 0.13, 0.15), _soft_mask(width, height, lantern, soft))
    lamp: Colour = (1.0, 0.93, 0.66) if lit else (0.62, 0.72, 0.76)
    picture = _blend(picture, lamp, _soft_mask(width, height, glass, soft))
    if lit:
        glow = _soft_mask(width, height, glass, size / 9)
        picture = picture + 0.8 * glow[..., None] * np.asarray((1.0, 0.85, 0.5), np.float32)
    return picture


def headland(rng: Rng, width: int, height: int, mood: int) -> F32:
    """Sky, sea, a rocky point with the tower on it."""
    horizon = int(height * 0.52)
    picture = np.concatenate([_sky(rng, width, horizon, mood), _sea(rng, width, height - horizon, mood)])
    edge = fractal(rng, width, 4, largest=width / 5, smallest=6, roughness=0.6)[0]
    slope = np.linspace(0.95, 0.25, width, dtype=np.float32) if mood % 2 else np.linspace(0.2, 0.9, width)
    line = (horizon + (height - horizon) * (slope * 0.9 - 0.12) + edge * height * 0.05).astype(np.float32)
    rows = np.arange(height, dtype=np.float32)[:, None]
    mask = np.clip((rows - line[None, :]) / 2, 0, 1).astype(np.float32)
    picture = _blend(picture, _rock(rng, width, height), mask)
    x = int(width * (0.72 if mood % 2 else 0.26))
    return _tower(rng, picture, (x, int(line[x]) + 4), int(height * 0.38), lit=mood % 4 == 2)


def swell(rng: Rng, width: int, height: int, mood: int) -> F32:
    """Nothing but sea, with a strip of sky."""
    horizon = int(height * 0.22)
    return np.concatenate([_sky(rng, width, horizon, mood), _sea(rng, width, height - horizon, mood)])


def ledge(rng: Rng, width: int, height: int, mood: int) -> F32:
    """Wet rock close by, a shallow depth of field."""
    rock = _rock(rng, width, height)
    image = Image.fromarray((np.clip(rock, 0, 1) * 255).astype(np.uint8))
    soft = np.asarray(image.filter(ImageFilter.GaussianBlur(height / 160)), np.float32) / 255
    distance = np.abs(np.linspace(-1, 1, height, dtype=np.float32))[:, None] + np.zeros(
        (1, width), np.float32
    )
    return _blend(rock, soft, np.clip(distance * 1.8 - 0.6, 0, 1))


def tower(rng: Rng, width: int, height: int, mood: int) -> F32:
    """The tower from the lawn."""
    horizon = int(height * 0.72)
    picture = np.concatenate([_sky(rng, width, horizon, mood), _grass(rng, width, height - horizon)])
    foot = (int(width * (0.42 + 0.05 * (mood % 4))), int(height * 0.86))
    return _tower(rng, picture, foot, int(height * 0.62), lit=mood % 4 == 2)


def fog(rng: Rng, width: int, height: int, mood: int) -> F32:
    """The same view on a morning when there is little to see."""
    veil = fractal(rng, width, height, largest=height / 2, smallest=24, stretch=2)
    clear = headland(rng, width, height, mood)
    thickness = np.clip(0.72 + 0.2 * veil, 0, 0.94)
    return _blend(clear, (0.78, 0.80, 0.82), thickness)


def open_day(rng: Rng, width: int, height: int, mood: int) -> F32:
    """Visitors on the lawn, bunting and all."""
    picture = tower(rng, width, height, mood)
    for _ in range(70):
        depth = float(rng.uniform(0.0, 1.0)) ** 1.5
        size = height * (0.03 + 0.10 * depth)
        coat: Colour = tuple(rng.uniform(0.08, 0.85, 3).tolist())
        _visitor(picture, float(rng.uniform(0, width)), height * (0.76 + 0.22 * depth), size, coat)
    return picture


def _visitor(picture: F32, x: float, y: float, size: float, coat: Colour) -> None:
    """Somebody standing at (x, y), drawn into the picture."""
    height, width, _ = picture.shape
    left, right = max(0, int(x - size)), min(width, int(x + size))
    top, bottom = max(0, int(y - size * 1.2)), min(height, int(y + size * 0.4))
    if right - left < 2 or bottom - top < 2:
        return
    part = picture[top:bottom, left:right]
    x, y = x - left, y - top
    figure = (x - size * 0.16, y - size * 0.8, x + size * 0.16, y + size * 0.1)
    head = (x - size * 0.08, y - size, x + size * 0.08, y - size * 0.8)
    for box, colour in ((figure, coat), (head, (0.78, 0.60, 0.48))):
        mask = _soft_mask(right - left, bottom - top, partial(_ellipse, box=box), size / 90)
        part = _blend(part, colour, mask)
    picture[top:bottom, left:right] = part


def _ellipse(draw: ImageDraw.ImageDraw, box: tuple[float, float, float, float]) -> None:
    draw.ellipse(box, fill=255)


def lens(rng: Rng, width: int, height: int, mood: int) -> F32:
    """The great lens: rings of glass and brass catching the light."""
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    radius = np.hypot((x - width * 0.5) / height, (y - height * 0.5) / height)
    rings = 0.5 + 0.5 * np.sin(radius * 90 + 3 * np.sin(radius * 11))
    dust = fractal(rng, width, height, largest=height / 3, smallest=1.6, roughness=0.6)
    angle = np.arctan2(y - height * 0.45, x - width * 0.52)
    sheen = 0.5 + 0.5 * np.sin(angle * 7 + mood)
    glass = _mix((0.05, 0.10, 0.10), (0.72, 0.84, 0.78), rings**2 * (0.35 + 0.65 * sheen) + 0.12 * dust)
    brass = _mix((0.20, 0.12, 0.03), (0.92, 0.74, 0.36), 0.3 + 0.5 * sheen + 0.2 * dust)
    spokes = (np.abs(np.sin(angle * 4)) < 0.03).astype(np.float32)
    return _blend(glass, brass, np.clip(spokes + (rings > 0.97), 0, 1).astype(np.float32))


def postcard(rng: Rng, width: int, height: int, mood: int) -> F32:
    """A headland with a white border, as the shop sells it."""
    edge = int(height * 0.05)
    inner = headland(rng, width - 2 * edge, height - 2 * edge, mood)
    card = np.full((height, width, 3), 0.96, np.float32)
    card[edge : height - edge, edge : width - edge] = inner
    return card


SCENES: dict[str, Callable[[Rng, int, int, int], NDArray[np.float32]]] = {
    "headland": headland,
    "swell": swell,
    "ledge": ledge,
    "tower": tower,
    "fog": fog,
    "open-day": open_day,
    "lens": lens,
    "postcard": postcard,
}
