"""A large upload over a line that is cut: what is sent twice, and what memory the service takes for it.

``script/bench uploads [MB]``; the file is a PNG of noise with bytes behind it.
"""

from __future__ import annotations

import filecmp
import io
import os
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

import httpx
import numpy as np
from PIL import Image
from rich.console import Console
from rich.table import Table

from plumcrate.client import Client
from plumcrate.contract.automation import NewFiles

from .stand import stand

_CUTS = 3


class _Cutting(httpx.HTTPTransport):
    """A line that is cut three times, in the middle of a piece."""

    def __init__(self) -> None:
        super().__init__()
        self.sent, self.pieces = 0, 0

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        if request.method != "PATCH":
            return super().handle_request(request)
        body = request.read()
        self.pieces += 1
        if self.pieces % 8 == 4 and self.pieces < 8 * _CUTS:
            part = body[: len(body) // 2]
            headers = request.headers.copy()
            del headers["content-digest"]
            headers["content-length"] = str(len(part))
            self.sent += len(part)
            cut = httpx.Request("PATCH", request.url, headers=headers, content=part)
            super().handle_request(cut).read()
            raise httpx.WriteError("the line was cut", request=request)
        self.sent += len(body)
        return super().handle_request(request)


def main() -> None:
    """Prints the table."""
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 195
    with TemporaryDirectory() as folder:
        file = Path(folder) / "large.png"
        size = _painted(file, megabytes * 1_000_000)
        root = Path(folder) / "site"
        root.mkdir()
        with stand(workers=0) as bench:
            bench.connect_only(root)
            bench.client.pictures.upload("l", "small.png", _small(), NewFiles.BY_HAND)
            before = bench.peak("service")
            line = _Cutting()
            began = time.perf_counter()
            address = f"http://127.0.0.1:{bench.port}"
            with Client(address, bench.key, transport=line) as client, file.open("rb") as data:
                client.pictures.upload_file("l", "large.png", data, treat=NewFiles.BY_HAND)
            took = time.perf_counter() - began
            grown = bench.peak("service") - before
        same = filecmp.cmp(root / "large.png", file, shallow=False)
    table = Table("what", "measured", "goal", title=f"One upload of {size / 1e6:.0f} MB, cut {_CUTS} times")
    table.add_row("the same to the byte", "yes" if same else "NO", "yes")
    table.add_row("sent twice", f"{(line.sent - size) / size:.2%}", "under 5 %")
    table.add_row("the service's memory, at most", f"+{grown:.0f} MB", "+20 MB")
    table.add_row("seconds", f"{took:.1f}", "")
    Console(width=100).print(table)


def _small() -> bytes:
    out = io.BytesIO()
    Image.fromarray(np.zeros((40, 40, 3), np.uint8)).save(out, "PNG")
    return out.getvalue()


def _painted(place: Path, size: int) -> int:
    """A PNG with noise behind its end, to that size."""
    with place.open("wb") as file:
        file.write(_small())
        while file.tell() < size:
            file.write(os.urandom(min(1 << 20, size - file.tell())))
        return file.tell()


if __name__ == "__main__":
    main()
