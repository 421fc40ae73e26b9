"""What runs in the process of a weighing: ``python -m plumcrate.pages.child SOCKET WATCH SCRATCH``.

It starts a browser behind a tunnel and answers one request after the other, in frames of JSON; bytes are
files in the scratch folder. While it works on one it may ask the house; the house never runs what comes from
here.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import json
import os
import secrets
import sys
import threading
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from playwright.async_api import Browser, Error, Playwright, async_playwright

from plumcrate.contract.weighing import Line
from plumcrate.outgoing.guard import Guard

from .faults import Fault
from .plain import fetch_list, plain_page
from .processes import end_all
from .profiles import LINES, OPEN, SCREENS
from .tunnel import Tunnel
from .visit import WARM, VisitOrder, visit

#: What a browser does of its own accord is switched off: it would be weighed too.
_FLAGS = (
    "--disable-gpu",
    "--disable-dev-shm-usage",
    "--disable-background-networking",
    "--disable-sync",
    "--disable-component-update",
    "--disable-default-apps",
    "--no-first-run",
    "--disable-extensions",
    "--disable-quic",
    "--disable-breakpad",
    "--metrics-recording-only",
    "--mute-audio",
    "--no-pings",
    "--disable-domain-reliability",
    "--disable-client-side-phishing-detection",
    "--disable-file-system",
    "--disable-features=OptimizationHints,MediaRouter,Translate,AutofillServerCommunication,"
    "CertificateTransparencyComponentUpdater,HttpsUpgrades,HttpsFirstBalancedModeAutoEnable",
    # All goes through the tunnel, names too; nothing goes around it.
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
    "--force-webrtc-ip-handling-policy=disable_non_proxied_udp",
    "--webrtc-ip-handling-policy=disable_non_proxied_udp",
    "--dns-prefetch-disable",
)
_PR_SET_CHILD_SUBREAPER = 36


class _Parent:
    """The way to whoever started this process."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._lock = threading.Lock()
        self._waiting: dict[int, asyncio.Future[Any]] = {}
        self._number = 0
        self.orders: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue()
        self._loop = asyncio.get_running_loop()
        threading.Thread(target=self._hear, daemon=True).start()

    def _hear(self) -> None:
        while True:
            try:
                frame = json.loads(self._connection.recv_bytes())
            except (EOFError, OSError):
                self._loop.call_soon_threadsafe(self.orders.put_nowait, None)
                return
            if "reply" in frame:
                self._loop.call_soon_threadsafe(self._replied, frame)
            else:
                self._loop.call_soon_threadsafe(self.orders.put_nowait, frame)

    def _replied(self, frame: dict[str, Any]) -> None:
        waiting = self._waiting.pop(frame["reply"], None)
        if waiting is not None and not waiting.done():
            waiting.set_result(frame["answer"])

    def tell(self, frame: dict[str, Any]) -> None:
        with self._lock:
            self._connection.send_bytes(json.dumps(frame).encode())

    async def ask(self, question: dict[str, Any]) -> Any:
        self._number += 1
        number = self._number
        future: asyncio.Future[Any] = self._loop.create_future()
        self._waiting[number] = future
        self.tell(question | {"number": number})
        return await future


class _Desk:
    """Serves orders, one at a time."""

    def __init__(
        self, house: _Parent, playwright: Playwright, scratch: Path, settings: dict[str, Any]
    ) -> None:
        self._house, self._playwright, self._scratch = house, playwright, scratch
        self._settings = settings
        guard = Guard(settings["allowed"])
        self._tunnel = Tunnel(guard, most_bytes=settings["most_bytes"], answer=self._predicted)
        self._browser: Browser | None = None
        self._port = 0
        self._answers: dict[str, dict[str, Any]] = {}
        self._known: dict[tuple[str, str], asyncio.Task[dict[str, Any] | None]] = {}
        self._key = secrets.token_hex(8)

    async def serve(self) -> None:
        self._port = await self._tunnel.start()
        while (order := await self._house.orders.get()) is not None:
            try:
                answer = await self._do(order)
            except Fault as fault:
                answer = {"fault": fault.code, "text": str(fault)}
            except Error as error:
                answer = {
                    "fault": "crashed",
                    "text": f"the browser failed: {str(error).splitlines()[0][:200]}",
                }
            self._house.tell({"done": answer})
        await self._tunnel.close()

    async def _do(self, order: dict[str, Any]) -> dict[str, Any]:
        self._tunnel.begin()
        if order["do"] == "plain":
            self._tunnel.set_line(OPEN)
            return await plain_page(self._port, self._tunnel, order, self._scratch)
        if order["do"] == "list":
            self._tunnel.set_line(OPEN)
            return await fetch_list(self._port, self._tunnel, order)
        if order["do"] == "forget":
            self._answers.clear()
            self._known.clear()
            return {}
        screen = SCREENS[order["device"]]
        what = VisitOrder(
            order["address"],
            screen,
            float(order["slower"]),
            tuple(map(tuple, order["cookies"])),
            tuple(map(tuple, order["headers"])),
            bool(order["predict"]),
            bool(order["rewrite"]),
            bool(order["look"]),
            float(order["seconds"]),
            LINES[Line(order["line"])],
        )
        browser = await self._started()
        return await visit(browser, what, self._tunnel, self._scratch, self._ask, self._key)

    async def _started(self) -> Browser:
        if self._browser is None or not self._browser.is_connected():
            as_root = os.geteuid() == 0  # the browser's own walls cannot be put up by root
            try:
                self._browser = await self._playwright.chromium.launch(
                    executable_path=self._settings["browser"],
                    args=list(_FLAGS),
                    headless=True,
                    chromium_sandbox=not as_root,
                    timeout=60_000,
                    proxy={"server": f"socks5://127.0.0.1:{self._port}"},
                    env={
                        "HOME": str(self._scratch),
                        "TMPDIR": str(self._scratch),
                        "LANG": "C.UTF-8",
                        "PATH": "/usr/bin:/bin",
                        "PLUMCRATE_PAGE": str(self._scratch),
                    },
                )
            except Error as error:
                said = str(error).splitlines()[0][:200]
                raise Fault("no-browser", f"the browser does not start ({said})") from None
        return self._browser

    # -- what is predicted ----------------------------------------------------------------------

    async def _ask(self, question: dict[str, Any]) -> dict[str, Any] | None:
        """Asks the house once for each address and Accept; what it said is remembered."""
        key = question["address"], str(question.get("accept") or question.get("file"))
        if key not in self._known:
            picture = question["ask"] == "picture"
            asking = self._asked(question) if picture else self._house.ask(question)
            self._known[key] = asyncio.ensure_future(asking)
        answer: dict[str, Any] | None = await asyncio.shield(self._known[key])
        return answer

    async def _asked(self, question: dict[str, Any]) -> dict[str, Any] | None:
        answer = await self._house.ask(question)
        if answer is None:
            return None
        token = secrets.token_hex(12)
        self._answers[token] = answer
        return {"host": answer["host"], "token": token}

    def _predicted(self, host: str, target: str) -> tuple[int, dict[str, str], bytes]:
        if host == WARM:
            return (
                200,
                {"Content-Type": "text/html", "Cache-Control": "no-store"},
                b"<!doctype html><title>.</title>",
            )
        answer = self._answers.get(target.strip("/"))
        if answer is None:
            return 404, {}, b""
        headers = {"Access-Control-Allow-Origin": "*", **answer["headers"]}
        return int(answer["status"]), headers, (self._scratch / answer["file"]).read_bytes()


def _end_with(watch: int) -> None:
    """Ends, and with it the browser, when the parent does."""
    os.read(watch, 1)
    end_all(os.getpid())
    os._exit(0)


async def _main(link: int, scratch: Path) -> None:
    connection = Connection(link)
    settings = json.loads(connection.recv_bytes())
    async with async_playwright() as playwright:
        await _Desk(_Parent(connection), playwright, scratch, settings).serve()


def main() -> None:
    link, watch, scratch = int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3])
    with contextlib.suppress(OSError):
        os.nice(5)
    # What the browser leaves behind becomes ours to end.
    ctypes.CDLL(None).prctl(_PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
    threading.Thread(target=_end_with, args=(watch,), daemon=True).start()
    asyncio.run(_main(link, scratch))


if __name__ == "__main__":
    main()
