"""Real pictures: Debian's plasma-workspace-wallpapers, downloaded once and unpacked, never committed.

``tuned()`` is what constants were fitted on; ``held_out()`` is never looked at when fitting.
"""

from __future__ import annotations

import io
import os
import random
import subprocess
from pathlib import Path

from PIL import Image

_HOME = Path(os.environ.get("PLUMCRATE_CORPUS", ".state/corpus"))
_PACKAGES = ("plasma-workspace-wallpapers", "openclipart-png")
_OF_DRAWINGS = ("openclipart-svg", "breeze-icon-theme", "gnome-icon-theme", "tango-icon-theme")

#: What nothing was ever fitted on: photographs, and stamps for children.
_OTHERS = (
    "gnome-backgrounds",
    "mate-backgrounds",
    "lomiri-wallpapers-16.04",
    "lomiri-wallpapers-20.04",
    "ukui-wallpapers",
    "tuxpaint-stamps-default",
)
_OF_DOCUMENTS = ("texlive-pictures-doc", "maxima-doc", "octave-doc", "pari-doc", "r-doc-pdf", "gnuplot-doc")


def _unpacked(home: Path = _HOME, packages: tuple[str, ...] = _PACKAGES) -> Path:
    target = home / "unpacked"
    if not target.exists():
        home.mkdir(parents=True, exist_ok=True)
        subprocess.run(["apt-get", "download", *packages], cwd=home, check=True, capture_output=True)
        for package in sorted(home.glob("*.deb")):
            subprocess.run(["dpkg-deb", "-x", package, target], check=True)
    return target


def documents(count: int, seed: int) -> list[Path]:
    """So many PDFs of Debian's documentation, of up to two megabytes, drawn by lot."""
    found = _unpacked(_HOME / "documents", _OF_DOCUMENTS).glob("**/*.pdf")
    light = [path for path in found if not path.is_symlink() and path.stat().st_size < 2_000_000]
    return random.Random(seed).sample(sorted(light), count)


def vector_drawings(count: int, seed: int) -> list[Path]:
    """So many SVG files of Debian's clip art and icons, drawn by lot."""
    found = _unpacked(_HOME / "drawings", _OF_DRAWINGS).glob("**/*.svg")
    return random.Random(seed).sample(sorted(path for path in found if not path.is_symlink()), count)


def wallpapers(kind: str = "jpg", *, every: bool = False) -> list[Path]:
    """The largest file of each wallpaper, by name; or every file that differs from the others."""
    found = sorted((_unpacked() / "usr/share/wallpapers").glob(f"*/contents/**/*.{kind}"))
    if every:
        return list({path.read_bytes(): path for path in found if not path.is_symlink()}.values())
    largest: dict[str, Path] = {}
    for path in found:
        name = path.relative_to(_unpacked() / "usr/share/wallpapers").parts[0]
        in_images = path.parent.name.startswith("images")
        if in_images and (name not in largest or path.stat().st_size > largest[name].stat().st_size):
            largest[name] = path
    return [largest[name] for name in sorted(largest)]


def others(kind: str) -> list[Path]:
    """Pictures of a kind, "jpg" or "png", that nothing was fitted on and that hold something."""
    found = _unpacked(_HOME / "others", _OTHERS).glob(f"**/*.{kind}")
    return sorted(path for path in found if not path.is_symlink() and path.stat().st_size > 10_000)


def drawings(count: int) -> list[Path]:
    """So many of openclipart's PNGs, evenly spread over its folders."""
    found = sorted((_unpacked() / "usr/share/openclipart").glob("**/*.png"))
    return found[:: max(1, len(found) // count)][:count]


def tuned() -> list[Path]:
    return wallpapers()[::2]


def held_out() -> list[Path]:
    return wallpapers()[1::2]


def photo(path: Path, side: int) -> Image.Image:
    """A wallpaper, at most ``side`` pixels on its longer side."""
    image = Image.open(path).convert("RGB")
    image.thumbnail((side, side), Image.Resampling.LANCZOS)
    return image


def as_uploaded(image: Image.Image) -> bytes:
    """As a stock site or a phone would give it: JPEG at quality 95."""
    out = io.BytesIO()
    image.save(out, "JPEG", quality=95)
    return out.getvalue()
