"""Plum Crate makes a content-management system's media library light, and keeps it light."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    __version__: str


def __getattr__(name: str) -> str:
    """``__version__``: of the build that is installed. Looked up when asked for: most imports do not ask."""
    if name != "__version__":
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib.metadata import PackageNotFoundError, version

    try:
        return version("plumcrate")
    except PackageNotFoundError:  # run from its sources
        return "0+unknown"
