"""A child that crashes, hangs or eats memory costs one picture and gives a plain reason."""

import ctypes
import time
from collections.abc import Iterator

import pytest

from plumcrate.work.sandbox import Sandbox, SandboxError


def crash() -> None:
    ctypes.string_at(0)


def hang() -> None:
    time.sleep(600)


def hoard() -> int:
    return len(bytearray(8 << 30))


def well() -> str:
    return "well"


@pytest.fixture(scope="module")
def sandbox() -> Iterator[Sandbox]:
    made = Sandbox(1, memory_mb=2000, seconds_per_megapixel=1)
    yield made
    made.close()


@pytest.mark.parametrize(
    ("deed", "code"), [(crash, "child-died"), (hang, "took-too-long"), (hoard, "out-of-memory")]
)
def test_a_bad_picture_costs_itself_only(sandbox: Sandbox, deed: object, code: str) -> None:
    with pytest.raises(SandboxError) as caught:
        sandbox._call(2, deed)
    assert caught.value.code == code
    assert "left as it is" in str(caught.value)
    assert sandbox._call(20, well) == "well"
