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


def wallpapers(kind: str = "jpg") -> list[Path]:
    """The largest file of each wallpaper, by name."""
    largest: dict[str, Path] = {}
    for path in sorted((_unpacked() / "usr/share/wallpapers").glob(f"*/contents/images*/*.{kind}")):
        name = path.relative_to(_unpacked() / "usr/share/wallpapers").parts[0]
        if name not in largest or path.stat().st_size > largest[name].stat().st_size:
            largest[name] = path
    return [largest[name] for name in sorted(largest)]


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
