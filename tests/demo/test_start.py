"""What the demonstration and an installation start is there."""

from __future__ import annotations

from importlib.util import find_spec

import pytest

from plumcrate.demo.start import PROGRAMS
from plumcrate.operate.running import _MODULES


@pytest.mark.parametrize("program", [*PROGRAMS.values(), *_MODULES.values()])
def test_every_program_can_be_started(program: str) -> None:
    spec = find_spec(program)
    assert spec is not None, program
    assert not spec.submodule_search_locations or find_spec(f"{program}.__main__") is not None
