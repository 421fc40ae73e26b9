"""Whose time it is: a page has only so much, and while the house thinks the clock stands."""

from __future__ import annotations

import asyncio
import errno
import tempfile
import time
from pathlib import Path

import pytest

from plumcrate.outgoing.guard import Guard
from plumcrate.pages.faults import Fault
from plumcrate.pages.process import Walls, weigher
from plumcrate.pages.profiles import SCREENS
from plumcrate.pages.tunnel import Tunnel
from plumcrate.pages.visit import VisitOrder, _quiet, _Visit, _within


async def nothing(question: object) -> None:
    return None


def a_visit(tmp_path: Path) -> _Visit:
    tunnel = Tunnel(Guard(), most_bytes=1)
    return _Visit(VisitOrder("http://x/", SCREENS["desktop"], 1.0), tunnel, tmp_path, nothing, "k")  # type: ignore[arg-type, index]


def test_what_takes_too_long_is_given_up_and_what_comes_is_passed_on(tmp_path: Path) -> None:
    async def soon() -> str:
        await asyncio.sleep(0.05)
        return "here"

    async def main() -> None:
        state = a_visit(tmp_path)
        assert await _within(state, 5, soon()) == "here"
        with pytest.raises(TimeoutError):
            await _within(state, 0.3, asyncio.sleep(60))
        with pytest.raises(ZeroDivisionError):
            await _within(state, 5, fails())

    async def fails() -> None:
        raise ZeroDivisionError

    asyncio.run(main())


def test_while_the_house_thinks_the_clock_stands(tmp_path: Path) -> None:
    async def main() -> float:
        state = a_visit(tmp_path)
        state.thinking = 1
        asyncio.get_running_loop().call_later(1.0, setattr, state, "thinking", 0)
        began = time.monotonic()
        with pytest.raises(TimeoutError):
            await _within(state, 0.3, asyncio.sleep(60))
        return time.monotonic() - began

    assert asyncio.run(main()) >= 1.0


def test_a_page_that_never_goes_quiet_is_not_waited_for_because_the_house_once_thought(
    tmp_path: Path,
) -> None:
    async def main() -> None:
        state = a_visit(tmp_path)
        state.ledger.sent({"requestId": "1", "request": {"url": "http://x/"}, "type": "Image"})
        state.thinking = 1
        asyncio.get_running_loop().call_later(0.5, setattr, state, "thinking", 0)
        began = time.monotonic()
        assert await _quiet(state, 0.2) is False
        assert 0.4 <= time.monotonic() - began < 30

    asyncio.run(main())


def test_a_full_disk_is_a_plain_word(monkeypatch: pytest.MonkeyPatch) -> None:
    def full(**_: object) -> str:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(tempfile, "mkdtemp", full)
    with pytest.raises(Fault, match=r"found no room to work .*No space left"), weigher(Walls()):
        pass
