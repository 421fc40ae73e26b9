"""The core: making pictures smaller without a visible difference.

Bytes and settings in, bytes and facts out. No file system, database, network, clock or
logging. Everything here is deterministic and raises only the errors of :mod:`.errors`.

* :func:`identify` reads headers only and says what a file is, by content.
* :func:`treat` turns one file into a lighter one and its WebP and AVIF copies.
* :func:`score` measures the visible difference between two pictures.

The names are loaded when first used, so that identifying a file does not load the codecs.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .errors import ImagingError
    from .identification import Facts, identify
    from .kinds import Kind
    from .outcome import Chosen, Output, Refused, Treatment, WorstPlace
    from .recipe import EVERY_CONVERSION, Conversion, Effort, FixedQuality, Level, Limits, Recipe
    from .scoring import score
    from .shapes import Sharpening, Size, Watermark
    from .treatment import treat

__all__ = [
    "EVERY_CONVERSION",
    "Chosen",
    "Conversion",
    "Effort",
    "Facts",
    "FixedQuality",
    "ImagingError",
    "Kind",
    "Level",
    "Limits",
    "Output",
    "Recipe",
    "Refused",
    "Sharpening",
    "Size",
    "Treatment",
    "Watermark",
    "WorstPlace",
    "identify",
    "score",
    "treat",
]

_HOMES = {
    "EVERY_CONVERSION": "recipe",
    "Conversion": "recipe",
    "Effort": "recipe",
    "FixedQuality": "recipe",
    "Kind": "kinds",
    "Sharpening": "shapes",
    "Size": "shapes",
    "Watermark": "shapes",
    "Facts": "identification",
    "ImagingError": "errors",
    "Level": "recipe",
    "Limits": "recipe",
    "Output": "outcome",
    "Chosen": "outcome",
    "Refused": "outcome",
    "WorstPlace": "outcome",
    "Recipe": "recipe",
    "Treatment": "outcome",
    "identify": "identification",
    "score": "scoring",
    "treat": "treatment",
}


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    value = getattr(import_module(f"{__name__}.{_HOMES[name]}"), name)
    globals()[name] = value
    return value
