"""The core's kernels, compiled once for this machine: where they are kept, and whether all are there.

``python -m plumcrate.sandbox.kernels`` compiles what is missing. Compiled code is valid for one processor
kind and for one version of the core; a file named for both says that all of it is there.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import sys
from pathlib import Path

import plumcrate
from plumcrate.imaging.version import core_version

_VARIABLE = "NUMBA_CACHE_DIR"
_BESIDE = Path(plumcrate.__file__).parent / "imaging"


def place_kernels(state: Path) -> None:
    """Has this process, and all that it starts, keep kernels below the state folder, where the folder of the
    program may not be written."""
    if _VARIABLE not in os.environ and not os.access(_BESIDE, os.W_OK):
        os.environ[_VARIABLE] = str(state / "kernels")


def compiled() -> bool:
    """Whether every kernel of this core is there for this machine."""
    return _stamp().exists()


def compile_all() -> None:
    """Compiles what is missing, while no other process does. Takes minutes the first time, else seconds."""
    from plumcrate.imaging.warm import warm

    folder = _folder()
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "compiling").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if compiled():
            return
        for number, _ in enumerate(warm(), 1):
            print(f"{number} of the kernels' pictures treated", file=sys.stderr, flush=True)
        for old in folder.glob("*.compiled"):
            old.unlink(missing_ok=True)
        _stamp().touch()


def _folder() -> Path:
    return Path(os.environ.get(_VARIABLE, _BESIDE / "__pycache__"))


def _stamp() -> Path:
    try:
        lines = Path("/proc/cpuinfo").read_text().splitlines()
    except OSError:
        lines = []
    processor = sorted({line for line in lines if line.startswith(("model name", "flags", "Features"))})
    kind = hashlib.sha256("\n".join([sys.version, *processor]).encode()).hexdigest()[:12]
    return _folder() / f"{core_version()}-{kind}.compiled"


if __name__ == "__main__":
    compile_all()
