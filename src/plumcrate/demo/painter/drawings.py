"""Everything that is not a photograph: charts, drawings in fine lines, logos, scans, the animation."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from .noise import fractal

Rng = np.random.Generator
PLUM, SEA, PAPER, INK = (107, 44, 92), (31, 78, 95), (250, 246, 236), (42, 26, 46)


def _font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    return ImageFont.load_default(size)


def tide_chart(rng: Rng, width: int, height: int) -> Image.Image:
    """A month of tides at Gannet Ledge, as a curve over a grid."""
    image = Image.new("RGB", (width, height), PAPER)
    draw = ImageDraw.Draw(image)
    left, top, right, bottom = width // 14, height // 8, width - width // 30, height - height // 8
    for row in range(11):
        y = top + (bottom - top) * row // 10
        draw.line((left, y, right, y), fill=(214, 206, 192), width=1)
        draw.text((left // 3, y - 8), f"{5 - row / 2:.1f} m", fill=INK, font=_font(max(12, height // 50)))
    days = 28
    phase = float(rng.uniform(0, 6))
    points = []
    for x in range(left, right):
        day = (x - left) / (right - left) * days
        spring = 1.3 + 0.7 * math.cos(2 * math.pi * day / 14.77 + phase)
        level = 2.5 + spring * math.sin(2 * math.pi * day / 0.5175 * 0.25 + phase)
        points.append((x, bottom - (bottom - top) * level / 5))
    draw.line(points, fill=SEA, width=max(2, height // 400), joint="curve")
    for day in range(0, days + 1, 7):
        x = left + (right - left) * day // days
        draw.line((x, top, x, bottom), fill=(170, 160, 150), width=1)
        draw.text((x + 4, bottom + 6), f"day {day}", fill=INK, font=_font(max(12, height // 45)))
    draw.text((left, top // 3), "Tides at Gannet Ledge", fill=PLUM, font=_font(max(18, height // 18)))
    return image


def lens_drawing(rng: Rng, width: int, height: int) -> Image.Image:
    """The lens in section, in fine grey lines, as the engineers drew it."""
    scale = 2
    image = Image.new("L", (width * scale, height * scale), 252)
    draw = ImageDraw.Draw(image)
    cx, cy = width * scale / 2, height * scale / 2
    for ring in range(46):
        radius = (ring + 2) * min(cx, cy) / 50
        draw.ellipse(
            (cx - radius, cy - radius, cx + radius, cy + radius), outline=60 + ring % 5 * 20, width=scale
        )
        for side in (-1, 1):
            x = cx + side * radius
            draw.polygon([(x, cy - 8), (x + side * 10, cy), (x, cy + 8)], outline=30, width=scale)
    for spoke in range(72):
        angle = spoke * math.pi / 36
        far = min(cx, cy) * 0.97
        near = far * (0.9 if spoke % 6 else 0.1)
        draw.line(
            (
                cx + near * math.cos(angle),
                cy + near * math.sin(angle),
                cx + far * math.cos(angle),
                cy + far * math.sin(angle),
            ),
            fill=90,
            width=scale,
        )
    draw.text((40, 40), "GANNET LEDGE  first-order lens, plate 4", fill=30, font=_font(height * scale // 32))
    return image.resize((width, height), Image.Resampling.LANCZOS)


def logo(rng: Rng, width: int, height: int) -> Image.Image:
    """The trust's mark on nothing at all: smooth edges, a soft shadow, full transparency round it."""
    scale = 4
    image = Image.new("RGBA", (width * scale, height * scale), (0, 0, 0, 0))
    draw = ImageDraw.Draw(image)
    w, h = width * scale, height * scale
    draw.polygon(
        [(w * 0.06, h * 0.9), (w * 0.22, h * 0.9), (w * 0.18, h * 0.3), (w * 0.10, h * 0.3)],
        fill=(*PLUM, 255),
    )
    draw.rectangle((w * 0.085, h * 0.5, w * 0.195, h * 0.62), fill=(250, 246, 236, 255))
    draw.polygon([(w * 0.09, h * 0.28), (w * 0.14, h * 0.08), (w * 0.19, h * 0.28)], fill=(*INK, 255))
    for beam in range(24):
        reach = w * (0.22 + 0.012 * beam)
        draw.line(
            (w * 0.19, h * 0.24, reach, h * (0.16 + 0.004 * beam)),
            fill=(230, 180, 80, 200 - beam * 8),
            width=scale * 2,
        )
    draw.text((w * 0.27, h * 0.28), "Gannet Ledge", fill=(*INK, 255), font=_font(int(h * 0.26)))
    draw.text((w * 0.27, h * 0.60), "Light Trust", fill=(*PLUM, 255), font=_font(int(h * 0.20)))
    return image.resize((width, height), Image.Resampling.LANCZOS)


def log_page(rng: Rng, width: int, height: int) -> Image.Image:
    """A scanned page of the keeper's log: paper, stains, a steady hand."""
    paper = fractal(rng, width, height, largest=height / 3, smallest=1.6, roughness=0.6)
    stain = np.clip(fractal(rng, width, height, largest=height / 2, smallest=40) - 0.3, 0, 1)
    base = np.asarray((226, 212, 182), np.float32) + 9 * paper[..., None]
    base -= stain[..., None] * np.asarray((30, 45, 60), np.float32)
    image = Image.fromarray(np.clip(base, 0, 255).astype(np.uint8))
    draw = ImageDraw.Draw(image)
    step = height // 34
    for line in range(3, 32):
        y = line * step
        draw.line(
            (width * 0.06, y + step * 0.75, width * 0.95, y + step * 0.75), fill=(176, 160, 140), width=1
        )
        x = width * 0.08
        while x < width * 0.9 and line % 5:
            word = float(rng.uniform(20, 110)) * width / 1600
            points = [
                (x + t, y + step * (0.5 + 0.22 * math.sin(t / 5 * 1600 / width + float(rng.uniform(0, 2)))))
                for t in np.arange(0, word, 3)
            ]
            if len(points) > 1:
                draw.line(points, fill=(48, 40, 66), width=max(1, width // 700), joint="curve")
            x += word + 14 * width / 1600
    draw.text((width * 0.08, step), "Keeper's log, Gannet Ledge", fill=(48, 40, 66), font=_font(step))
    return image


def sea_chart(rng: Rng, width: int, height: int) -> Image.Image:
    """A chart of the approaches: flat tints, contours, soundings. A palette of a few colours."""
    depth = fractal(rng, width, height, largest=height / 1.5, smallest=30, roughness=0.5)
    bands = np.digitize(depth, [-0.6, -0.25, 0.05, 0.3, 0.55])
    tints = np.asarray(
        [
            (196, 222, 236),
            (210, 232, 242),
            (226, 241, 247),
            (244, 250, 252),
            (214, 224, 180),
            (240, 220, 160),
        ],
        np.uint8,
    )
    image = Image.fromarray(tints[bands])
    draw = ImageDraw.Draw(image)
    for _ in range(220):
        x, y = int(rng.integers(0, width)), int(rng.integers(0, height))
        if bands[y, x] < 4:
            draw.text(
                (x, y), str(int(rng.integers(2, 60))), fill=(70, 84, 110), font=_font(max(11, height // 70))
            )
    draw.text((width // 20, height // 20), "Approaches to Gannet Ledge", fill=INK, font=_font(height // 22))
    return image


def flashing_light(width: int, height: int) -> list[Image.Image]:
    """Two flashes every ten seconds, as frames of an animation."""
    frames = []
    for step in range(12):
        lit = step in (2, 5)
        frame = Image.new("P", (width, height), 0)
        frame.putpalette([20, 18, 40, 52, 48, 84, 240, 214, 120, 255, 246, 210, 90, 30, 60])
        draw = ImageDraw.Draw(frame)
        draw.rectangle((0, int(height * 0.8), width, height), fill=1)
        draw.polygon(
            [
                (width * 0.46, height * 0.8),
                (width * 0.54, height * 0.8),
                (width * 0.52, height * 0.3),
                (width * 0.48, height * 0.3),
            ],
            fill=4,
        )
        draw.ellipse((width * 0.47, height * 0.2, width * 0.53, height * 0.3), fill=3 if lit else 2)
        if lit:
            draw.polygon(
                [(width * 0.5, height * 0.25), (width, height * 0.05), (width, height * 0.45)], fill=2
            )
        frames.append(frame)
    return frames


DRAWINGS: dict[str, Callable[[Rng, int, int], Image.Image]] = {
    "tide-chart": tide_chart,
    "lens-drawing": lens_drawing,
    "logo": logo,
    "log-page": log_page,
    "sea-chart": sea_chart,
}
