"""One visit of a page: opened with empty caches, waited for, measured, scrolled through, looked at."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
import time
import zlib
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import urlsplit

from playwright.async_api import Browser, BrowserContext, CDPSession, Error, Page, Request

from . import faults
from .faults import Fault
from .profiles import OPEN, Screen, Speed
from .traffic import VisitTraffic
from .tunnel import PREDICTED, Tunnel, predicted_host

_T = TypeVar("_T")
_HERE = Path(__file__).parent
#: A page is quiet when nothing went or came for so long.
_QUIET = 0.6
_LOOK = 0.25
#: So long the browser settles before a page is opened.
_PAUSE = 0.5
_ANSWER, _LOAD, _SETTLE, _SCROLL = 45.0, 60.0, 20.0, 40.0
_MOST_REQUESTS, _MOST_PICTURES, _MOST_DOCUMENTS = 1_500, 500, 12
_MOST_HEIGHT = 16_000
_MOST_BODY, _MOST_BODIES = 40_000_000, 300_000_000
#: The longer side of a shot, in its own pixels, that every encoder takes.
_MOST_SHOT = 16_000

_SCROLL_TO = """async (at) => {
    scrollTo({ top: at, behavior: "instant" });
    await new Promise((resolve) => setTimeout(resolve, 60));
    return document.documentElement.scrollHeight - innerHeight;
}"""

#: A host that is answered with an empty page: what a browser does once for each visitor is done there.
WARM = f"warm.{PREDICTED}"

#: Asks the house: what an address would be answered with. None: as the network says.
Ask = Callable[[dict[str, Any]], Awaitable[dict[str, Any] | None]]


@dataclass(frozen=True, slots=True)
class VisitOrder:
    """What to visit, and as whom. ``headers`` and ``cookies`` go to the page's own host alone; ``seconds`` is
    what all of it may take."""

    address: str
    screen: Screen
    slower: float
    cookies: tuple[tuple[str, str], ...] = ()
    headers: tuple[tuple[str, str], ...] = ()
    predict: bool = False
    rewrite: bool = False
    look: bool = False
    seconds: float = 150.0
    speed: Speed = OPEN


@dataclass
class _Visit:
    order: VisitOrder
    tunnel: Tunnel
    scratch: Path
    ask: Ask
    key: str
    ledger: VisitTraffic = field(default_factory=lambda: VisitTraffic(_MOST_REQUESTS))
    notes: list[str] = field(default_factory=list)
    crashed: bool = False
    #: So many answers the house has yet to give: that is no time of the page's.
    thinking: int = 0
    tasks: set[asyncio.Task[Any]] = field(default_factory=set)
    #: What documents weigh that were rewritten on their way, by their number.
    rewritten: dict[str, int] = field(default_factory=dict)


async def visit(
    browser: Browser, order: VisitOrder, tunnel: Tunnel, scratch: Path, ask: Ask, key: str
) -> dict[str, Any]:
    """What was measured, as plain data; shots and bodies are files in ``scratch``. Raises :class:`Fault`."""
    state = _Visit(order, tunnel, scratch, ask, key)
    context = await browser.new_context(
        viewport={"width": order.screen.width, "height": order.screen.height},
        device_scale_factor=order.screen.density,
        is_mobile=order.screen.mobile,
        has_touch=order.screen.mobile,
        user_agent=_agent(browser.version, mobile=order.screen.mobile),
        service_workers="block",
        accept_downloads=False,
        locale="en-GB",
        timezone_id="UTC",
    )
    try:
        async with asyncio.timeout(order.seconds):
            return await _visited(state, context)
    except TimeoutError:
        raise _too_long(state) from None
    except Error as error:
        if state.crashed or "crash" in str(error).lower():
            raise Fault("crashed", "the page ended the browser's process that showed it") from None
        if tunnel.spent:
            raise _too_much() from None
        if not browser.is_connected():
            raise Fault("crashed", "the page ended the browser") from None
        raise faults.of_network(str(error), order.address, tunnel.faults) from None
    finally:
        for task in list(state.tasks):
            task.cancel()
        with contextlib.suppress(Error, TimeoutError):
            async with asyncio.timeout(10):
                await context.close()


def _agent(version: str, *, mobile: bool) -> str:
    """As this browser names itself in a window, and who asks."""
    major = version.partition(".")[0]
    system = "Linux; Android 10; K" if mobile else "X11; Linux x86_64"
    word = "Mobile Safari" if mobile else "Safari"
    return (
        f"Mozilla/5.0 ({system}) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/{major}.0.0.0 {word}/537.36"
        " PlumCrate"
    )


def _too_much() -> Fault:
    return Fault(
        "too-large", "the page goes on loading: it was stopped at the most bytes that a page may have"
    )


def _too_long(state: _Visit) -> Fault:
    if state.tunnel.spent:
        return _too_much()
    if not state.ledger.exchanges or not any(one.status for one in state.ledger.exchanges):
        return Fault("no-answer", "the site did not answer in time")
    return Fault("too-long", "the page kept the browser busy for so long that it was given up")


async def _visited(state: _Visit, context: BrowserContext) -> dict[str, Any]:
    order = state.order
    if order.cookies:
        await context.add_cookies(
            [{"name": name, "value": value, "url": order.address} for name, value in order.cookies]
        )
    await context.add_init_script(_script("watch", state.key))
    page = await context.new_page()
    _keep_alone(state, context, page)
    session = await context.new_cdp_session(page)
    state.tunnel.set_line(OPEN)
    await page.goto(f"http://{WARM}/", timeout=_ANSWER * 1000)
    await asyncio.sleep(_PAUSE)
    state.tunnel.set_line(order.speed)
    if order.predict:
        # The page's own pictures come over the connection that brought the page.
        home = urlsplit(order.address)
        state.tunnel.warm = predicted_host(home.scheme, home.netloc)
    await _listen(state, session)
    landed = await _opened(state, page)
    await _settled(state, page)
    times = await _evaluate(page, _script("times", state.key))
    shots = []
    if order.look:
        shots.append(await _shot(state, session, "first", order.screen.width, order.screen.height, 1.0))
    await _scrolled(state, page, session)
    state.ledger.closed = True
    outcome: dict[str, Any] = {"landed": page.url, "status": landed, "times": times, "notes": state.notes}
    facts = await _evaluate(page, _script("pictures", state.key), _MOST_PICTURES)
    if order.look:
        outcome["bodies"] = await _bodies(state, session, facts)
        height = min(max(facts["height"], order.screen.height), _MOST_HEIGHT)
        if facts["height"] > height:
            state.notes.append(
                f"the page is {facts['height']:,.0f} pixels long; its picture ends at {height:,}"
            )
        shots.append(
            await _shot(
                state,
                session,
                "whole",
                min(facts["width"], 4_000),
                height,
                min(1.0, 1.5 / order.screen.density),
            )
        )
    outcome["page"], outcome["shots"] = facts, shots
    for one in state.ledger.exchanges:
        one.bytes = state.rewritten.get(one.id, one.bytes) if one.kind == "page" else one.bytes
    outcome["exchanges"] = [one.as_dict() for one in state.ledger.exchanges]
    if state.ledger.too_many:
        state.notes.append(f"the page asked for more than {_MOST_REQUESTS:,} files; the rest is not counted")
    if facts["frames"]:
        state.notes.append(f"pictures within its {facts['frames']} frames are weighed, but not listed")
    return outcome


def _script(name: str, key: str) -> str:
    return (_HERE / f"{name}.js").read_text().replace("KEY", key)


async def _evaluate(page: Page, script: str, argument: Any = None) -> Any:
    try:
        async with asyncio.timeout(40):
            return await page.evaluate(script, argument)
    except TimeoutError:
        raise Fault("too-long", "the page's scripts never let go of the processor") from None


def _keep_alone(state: _Visit, context: BrowserContext, page: Page) -> None:
    """Nothing that the page opens stays; nothing waits for an answer."""

    def crashed(_: Page) -> None:
        state.crashed = True

    def opened(other: Page) -> None:
        if other is not page:
            _note(state, "it opens other windows: they were closed")
            _begin(state, other.close())

    def asked(dialog: Any) -> None:
        _note(state, "it opens dialogs: they were dismissed")
        _begin(state, dialog.dismiss())

    def saved(download: Any) -> None:
        _note(state, "it begins downloads: they were stopped")
        _begin(state, download.cancel())

    page.on("crash", crashed)
    page.on("dialog", asked)
    page.on("download", saved)
    context.on("page", opened)


def _begin(state: _Visit, work: Awaitable[Any]) -> None:
    """Goes on beside; ends with the visit."""

    async def quietly() -> None:
        with contextlib.suppress(Error):
            await work

    task = asyncio.ensure_future(quietly())
    state.tasks.add(task)
    task.add_done_callback(state.tasks.discard)


def _note(state: _Visit, text: str) -> None:
    if text not in state.notes:
        state.notes.append(text)


async def _listen(state: _Visit, session: CDPSession) -> None:
    ledger = state.ledger
    for event, hear in (
        ("requestWillBeSent", ledger.sent),
        ("responseReceived", ledger.answered),
        ("dataReceived", ledger.received),
        ("loadingFinished", ledger.finished),
        ("loadingFailed", ledger.failed),
    ):
        session.on(f"Network.{event}", hear)

    def slow_down(event: dict[str, Any]) -> None:
        # From when the page has come: what the browser does before is no slower on a visitor's device.
        if event.get("type") == "Document" and not slow_down_once:
            slow_down_once.append(True)
            _begin(state, session.send("Emulation.setCPUThrottlingRate", {"rate": state.order.slower}))

    slow_down_once: list[bool] = []
    if state.order.slower != 1:
        session.on("Network.responseReceived", slow_down)
    await session.send(
        "Network.enable",
        {"maxTotalBufferSize": _MOST_BODIES, "maxResourceBufferSize": _MOST_BODY},
    )
    patterns: list[dict[str, str]] = []
    if state.order.predict:
        patterns.append({"urlPattern": "*", "resourceType": "Image"})
        patterns.append({"urlPattern": "*", "resourceType": "Other"})
    if state.order.headers:
        parts = urlsplit(state.order.address)
        patterns.append({"urlPattern": f"{parts.scheme}://{parts.netloc}/*"})
    if state.order.rewrite:
        patterns.append({"urlPattern": "*", "resourceType": "Document", "requestStage": "Response"})
    if patterns:

        def paused(event: dict[str, Any]) -> None:
            _begin(state, _let_pass(state, session, event))

        session.on("Fetch.requestPaused", paused)
        await session.send("Fetch.enable", {"patterns": patterns})


async def _let_pass(state: _Visit, session: CDPSession, event: dict[str, Any]) -> None:
    """Sends a request on its way: as it is, with headers that sign it in, or to what is predicted."""
    number, address = event["requestId"], event["request"]["url"]
    with contextlib.suppress(Error):
        if "responseStatusCode" in event:
            if not await _rewritten(state, session, event):
                await session.send("Fetch.continueResponse", {"requestId": number})
            return
        changes: dict[str, Any] = {"requestId": number}
        home, there = urlsplit(state.order.address), urlsplit(address)
        if state.order.headers and (there.scheme, there.netloc) == (home.scheme, home.netloc):
            own = {name.lower() for name, _ in state.order.headers}
            kept = [
                {"name": name, "value": value}
                for name, value in event["request"]["headers"].items()
                if name.lower() not in own
            ]
            changes["headers"] = kept + [
                {"name": name, "value": value} for name, value in state.order.headers
            ]
        if state.order.predict and event["request"]["method"] == "GET":
            accept = {name.lower(): value for name, value in event["request"]["headers"].items()}.get(
                "accept"
            )
            answer = await _thought(state, {"ask": "picture", "address": address, "accept": accept})
            if answer is not None:
                changes["url"] = f"http://{answer['host']}/{answer['token']}"
        await session.send("Fetch.continueRequest", changes)


async def _thought(state: _Visit, question: dict[str, Any]) -> dict[str, Any] | None:
    state.thinking += 1
    try:
        return await state.ask(question)
    finally:
        state.thinking -= 1


async def _rewritten(state: _Visit, session: CDPSession, event: dict[str, Any]) -> bool:
    """Answers the page's own document as our markup would have it."""
    headers = {entry["name"].lower(): entry["value"] for entry in event.get("responseHeaders", [])}
    kind = headers.get("content-type", "")
    if event["responseStatusCode"] != 200 or "html" not in kind:
        return False
    got = await session.send("Fetch.getResponseBody", {"requestId": event["requestId"]})
    body = base64.b64decode(got["body"]) if got["base64Encoded"] else got["body"].encode()
    name = hashlib.sha256(body).hexdigest()
    (state.scratch / name).write_bytes(body)
    answer = await _thought(
        state, {"ask": "markup", "address": event["request"]["url"], "file": name, "type": kind}
    )
    if answer is None:
        return False
    page = (state.scratch / answer["file"]).read_bytes()
    kept = [
        entry
        for entry in event["responseHeaders"]
        if entry["name"].lower() not in ("content-length", "content-encoding", "transfer-encoding")
    ]
    sent = sum(len(entry["name"]) + len(entry["value"]) + 4 for entry in event["responseHeaders"])
    # A site that packs its pages would pack this one too.
    weight = len(zlib.compress(page, 6)) if "content-encoding" in headers else len(page)
    state.rewritten[event.get("networkId", "")] = sent + weight
    await session.send(
        "Fetch.fulfillRequest",
        {
            "requestId": event["requestId"],
            "responseCode": 200,
            "responseHeaders": kept,
            "body": base64.b64encode(page).decode(),
        },
    )
    return True


async def _opened(state: _Visit, page: Page) -> int:
    """Until the page has begun to come; its status. Raises :class:`Fault`."""
    try:
        going = page.goto(state.order.address, wait_until="commit", timeout=0)
        answer = await _within(state, _ANSWER, going)
    except TimeoutError:
        raise Fault("no-answer", f"the site did not answer within {_ANSWER:.0f} seconds") from None
    if answer is None:
        raise Fault("no-answer", "the site did not answer")
    kind = (await answer.header_value("content-type") or "").partition(";")[0].strip().lower()
    if answer.status in (401, 403, 407):
        raise Fault(
            "sign-in",
            f"the site answers {answer.status}: the page needs a sign-in; give cookies or headers for it",
        )
    if answer.status >= 400:
        raise Fault("refused", f"the site answers {answer.status} for {page.url}")
    if kind not in ("text/html", "application/xhtml+xml"):
        raise Fault("not-html", f"the address holds no page: its type is {kind or 'not said'}")
    if _steps(answer.request) and urlsplit(page.url)[:2] != urlsplit(state.order.address)[:2]:
        _note(state, f"it sends on to another site: {page.url[:200]}")
    return answer.status


def _steps(request: Request) -> int:
    count, before = 0, request.redirected_from
    while before is not None:
        count, before = count + 1, before.redirected_from
    return count


async def _settled(state: _Visit, page: Page) -> None:
    """Until the page has loaded and is quiet, or for as long as is reasonable."""
    try:
        await _within(state, _LOAD, page.wait_for_load_state("load", timeout=0))
    except TimeoutError:
        _note(state, f"it had not loaded after {_LOAD:.0f} seconds; what had come by then is told")
    if not await _quiet(state, _SETTLE):
        _note(state, f"it never goes quiet: it was looked at {_SETTLE:.0f} seconds after it had loaded")
    state.ledger.first = False


async def _within(state: _Visit, seconds: float, work: Awaitable[_T]) -> _T:
    """What comes of something that may take so long; while the house thinks the clock stands. Raises
    TimeoutError."""
    task, left = asyncio.ensure_future(work), seconds
    try:
        while not task.done():
            began = time.monotonic()
            await asyncio.wait({task}, timeout=min(_LOOK, left))
            left -= 0 if state.thinking else time.monotonic() - began
            if left <= 0 and not task.done():
                raise TimeoutError
        return task.result()
    finally:
        task.cancel()


async def _quiet(state: _Visit, seconds: float) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end or state.thinking:
        if state.tunnel.spent:
            raise _too_much()
        if state.ledger.documents > _MOST_DOCUMENTS:
            raise Fault("never-stays", "the page keeps opening other pages")
        if not state.ledger.in_flight and time.monotonic() - state.ledger.quiet_since > _QUIET:
            return True
        await asyncio.sleep(0.05)
    return False


async def _scrolled(state: _Visit, page: Page, session: CDPSession) -> None:
    """Down to the end, so that what loads late is there, and back. Nothing of it is timed."""
    await session.send("Emulation.setCPUThrottlingRate", {"rate": 1})
    end, at = time.monotonic() + _SCROLL, 0.0
    step = state.order.screen.height * 0.7
    while time.monotonic() < end and at < 2 * _MOST_HEIGHT:
        at += step
        bottom = await _evaluate(
            page,
            _SCROLL_TO,
            at,
        )
        if at >= bottom:
            break
    if not await _quiet(state, min(_SETTLE, max(1.0, end - time.monotonic()))):
        _note(state, "what came while it was scrolled through may not be all")
    await _evaluate(page, "async () => { scrollTo({top: 0, behavior: 'instant'}); }")
    await asyncio.sleep(0.15)


async def _shot(
    state: _Visit, session: CDPSession, part: str, width: float, height: float, scale: float
) -> dict[str, Any]:
    """``scale``: pixels of the shot for one device pixel."""
    density = state.order.screen.density
    scale = min(scale, _MOST_SHOT / (max(width, height) * density))
    async with asyncio.timeout(40):
        got = await session.send(
            "Page.captureScreenshot",
            {
                "format": "webp",
                "quality": 82,
                "captureBeyondViewport": part == "whole",
                "clip": {"x": 0, "y": 0, "width": width, "height": height, "scale": scale},
            },
        )
    data = base64.b64decode(got["data"])
    name = f"shot-{part}-{hashlib.sha256(data).hexdigest()[:16]}"
    (state.scratch / name).write_bytes(data)
    pixels = scale * density
    return {
        "part": part,
        "file": name,
        "scale": pixels,
        "width": round(width * pixels),
        "height": round(height * pixels),
    }


async def _bodies(state: _Visit, session: CDPSession, facts: dict[str, Any]) -> dict[str, str]:
    """The bytes of the page's pictures, as files by address."""
    wanted = {row["address"].partition("#")[0] for row in facts["pictures"]}
    found: dict[str, str] = {}
    for one in state.ledger.exchanges:
        address = one.asked.partition("#")[0]
        if one.kind != "pictures" or one.failed or address not in wanted or address in found:
            continue
        try:
            async with asyncio.timeout(20):
                got = await session.send("Network.getResponseBody", {"requestId": one.id})
        except (Error, TimeoutError):
            continue
        body = base64.b64decode(got["body"]) if got["base64Encoded"] else got["body"].encode()
        name = hashlib.sha256(body).hexdigest()
        (state.scratch / name).write_bytes(body)
        found[address] = name
    return found
