"""Real pictures: Debian's plasma-workspace-wallpapers, downloaded once and unpacked, never committed.

``tuned()`` is what constants were fitted on; ``held_out()`` is never looked at when fitting.
"""

from __future__ import annotations

import io
import os
import subprocess
from pathlib import Path

from PIL import Image

_HOME = Path(os.environ.get("PLUMCRATE_CORPUS", ".state/corpus"))
_PACKAGES = ("plasma-workspace-wallpapers", "openclipart-png")


def _unpacked() -> Path:
    target = _HOME / "unpacked"
    if not target.exists():
        _HOME.mkdir(parents=True, exist_ok=True)
        subprocess.run(["apt-get", "download", *_PACKAGES], cwd=_HOME, check=True, capture_output=True)
        for package in sorted(_HOME.glob("*.deb")):
            subprocess.run(["dpkg-deb", "-x", package, target], check=True)
    return target


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
