"""Pages that are rewritten in a child: none holds up the service, and each comes back at least as it was."""

from __future__ import annotations

import asyncio
import sys
import tempfile
from collections.abc import AsyncIterator, Iterator
from pathlib import Path
from types import SimpleNamespace

import anyio
import pytest
from sqlalchemy.exc import OperationalError

from plumcrate.api.routers.pages import _rewritten
from plumcrate.contract.delivery import Delivery, PageFault
from plumcrate.sandbox.children import Sandbox
from plumcrate.sandbox.forkserver import ForkServer
from plumcrate.sandbox.rewriting import AskerLeft, Faults, PageRewriter, PageSource

sys.path.append(str(Path(__file__).parent))  # where the program "walls" is found

SITE = PageSource("https://ledge.example/visit", "utf-8")
SETTINGS = Delivery(address="https://ledge.example/media")


@pytest.fixture(scope="module")
def rewriter() -> Iterator[PageRewriter]:
    """One whose children do what a page could make them do."""
    sandbox = Sandbox(1, memory_mb=2000, seconds_per_megapixel=1, backstop=4, server=ForkServer("walls"))
    yield PageRewriter(sandbox)
    sandbox.close()


def rewritten(rewriter: PageRewriter, page: bytes, stopped: bool = False) -> tuple[bytes, str | None]:
    with tempfile.TemporaryFile() as file, tempfile.TemporaryFile() as into:
        file.write(page)
        file.seek(0)
        fault = rewriter.rewrite(file, into, SITE, SETTINGS, lambda _: {}, lambda: stopped)
        return into.read(), fault


@pytest.mark.parametrize("page", [b"crash", b"half"])
def test_a_page_that_ends_its_child_comes_back_as_it_was(rewriter: PageRewriter, page: bytes) -> None:
    out, fault = rewritten(rewriter, page)
    assert out == page
    assert fault is not None
    assert "child process" in fault


def test_a_page_that_takes_too_long_is_stopped_when_nobody_waits_for_it(rewriter: PageRewriter) -> None:
    with pytest.raises(AskerLeft):
        rewritten(rewriter, b"spin", stopped=True)
    assert rewritten(rewriter, b"crash")[0] == b"crash", "the next page has a child again"


def test_equal_faults_are_counted_together_and_old_ones_make_way() -> None:
    faults = Faults()
    for number in range(60):
        faults.note(1, PageFault(page=f"/{number}", reason="x"))
    faults.note(1, PageFault(page="/30", reason="x", times=4))
    told = faults.of(1)
    assert told.times == 64
    assert (told.faults[0].page, told.faults[0].times, len(told.faults)) == ("/30", 5, 50)
    assert "/9" not in {fault.page for fault in told.faults}
    assert faults.of(2).times == 0


def test_what_the_database_says_is_answered_as_it_is() -> None:
    """A lost connection is told as one, not as a fault of ours."""

    class Rewriter:
        def rewrite(self, *_: object) -> None:
            raise OperationalError("SELECT 1", {}, Exception("gone"))

    class Asked:
        app = SimpleNamespace(
            state=SimpleNamespace(
                service=SimpleNamespace(page_rewriter=Rewriter(), page_threads=anyio.CapacityLimiter(1))
            )
        )

        async def stream(self) -> AsyncIterator[bytes]:
            yield b"<p>"

        async def is_disconnected(self) -> bool:
            return False

    facts = SimpleNamespace(of=lambda _: {})
    with pytest.raises(OperationalError):
        asyncio.run(_rewritten(Asked(), SITE, SETTINGS, facts))  # type: ignore[arg-type]
