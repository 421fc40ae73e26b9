"""Where compiled kernels are kept: beside the program where that may be written, else in the state folder."""

from __future__ import annotations

import os
from pathlib import Path

import plumcrate
from plumcrate.settings import Settings

_VARIABLE = "NUMBA_CACHE_DIR"


def place_kernels(settings: Settings) -> None:
    """Says so in this process's environment, for all that it starts. Children that decode pictures have no
    home in which they could be kept."""
    beside = Path(plumcrate.__file__).parent / "imaging"
    if _VARIABLE not in os.environ and not os.access(beside, os.W_OK):
        os.environ[_VARIABLE] = str(settings.state_dir / "kernels")
