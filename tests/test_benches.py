"""Every bench that is listed can be started, and every bench there is is listed."""

from importlib import import_module
from pathlib import Path

import pytest
from bench.__main__ import NAMES

SHARED = {"__init__", "__main__", "corpus", "stand"}


@pytest.mark.parametrize("name", NAMES)
def test_a_bench_has_a_beginning(name: str) -> None:
    assert callable(import_module(f"bench.{name}").main)


def test_every_bench_is_listed() -> None:
    home = Path(__file__).parents[1] / "bench"
    there = {path.stem for path in home.glob("*.py")} | {
        path.parent.name for path in home.glob("*/__init__.py")
    }
    assert there - SHARED == set(NAMES)
