"""Pages of the site rewritten in a child of the sandbox, so that no page can hold up the service.

A page passes twice: once for the paths of the library's pictures that it names, whose facts are then looked
up here, and once to be rewritten with them. It goes in and comes out through files, never through memory of
ours. Whatever goes wrong, what comes out are the page's own bytes.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import IO

from plumcrate.contract.delivery import Delivery, PageFault, PageFaults, PageFile

from .children import Sandbox, SandboxError

#: So many faults of a library are remembered, the newest.
_REMEMBERED = 50


@dataclass(frozen=True, slots=True)
class PageSource:
    """A page of the site: where it is, absolute, and the charset that was sent along with it."""

    address: str
    charset: str | None


class AskerLeft(Exception):
    """Nobody waits for the page any more."""


class PageRewriter:
    """Rewrites pages for the service, in children of their own."""

    def __init__(self, sandbox: Sandbox) -> None:
        self._sandbox = sandbox

    def rewrite(
        self,
        page: IO[bytes],
        into: IO[bytes],
        site: PageSource,
        settings: Delivery,
        look_up: Callable[[Sequence[str]], Mapping[str, PageFile]],
        stopped: Callable[[], bool],
    ) -> str | None:
        """Writes the page into an empty file; what went wrong, in plain words, or None.

        Raises :class:`AskerLeft` soon after ``stopped`` says so.
        """
        try:
            paths = self._sandbox.page_paths(page, site, settings, stopped)
            files = list(look_up(paths).values()) if paths else []
            fault = self._sandbox.page(page, into, site, settings, files, stopped)
        except SandboxError as error:
            if stopped():
                raise AskerLeft from None
            fault = str(error)
            into.seek(0)
            into.truncate()
            page.seek(0)
            while piece := page.read(1 << 20):
                into.write(piece)
            into.flush()
        os.lseek(into.fileno(), 0, os.SEEK_SET)
        return fault


class Faults:
    """The pages that left as their authors wrote them because rewriting failed; since the service started."""

    def __init__(self) -> None:
        self._since = datetime.now(UTC)
        self._of: dict[int, dict[tuple[str, str], PageFault]] = {}
        self._total: dict[int, int] = {}
        self._guard = threading.Lock()

    def note(self, library_id: int, fault: PageFault) -> None:
        """One page, once or several times; equal ones are counted together."""
        with self._guard:
            known = self._of.setdefault(library_id, {})
            before = known.pop((fault.page, fault.reason), None)
            times = fault.times + (before.times if before is not None else 0)
            known[fault.page, fault.reason] = fault.model_copy(update={"times": times})
            self._total[library_id] = self._total.get(library_id, 0) + fault.times
            while len(known) > _REMEMBERED:
                known.pop(next(iter(known)))

    def of(self, library_id: int) -> PageFaults:
        """The newest first."""
        with self._guard:
            known = list(self._of.get(library_id, {}).values())
            return PageFaults(since=self._since, times=self._total.get(library_id, 0), faults=known[::-1])
