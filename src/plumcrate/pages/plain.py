"""Weighing without a browser: what the markup names, asked for plainly; and lists of pages.

Everything goes through the tunnel as well, so that the same walls hold.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import re
import zlib
from pathlib import Path
from typing import Any
from urllib.parse import urljoin, urlsplit

import httpx
from defusedxml.ElementTree import fromstring

from plumcrate.imaging.errors import ImagingError
from plumcrate.imaging.identification import identify
from plumcrate.markup.offers import offers_of
from plumcrate.markup.tokenizer import Tag, Tokenizer

from .faults import Fault
from .traffic import RequestRecord
from .tunnel import Tunnel

_AGENT = "PlumCrate (plain weighing)"
_SECONDS = 20.0
_MOST_PAGE, _MOST_FILE, _MOST_FILES = 20_000_000, 40_000_000, 300
_MOST_LISTS, _MOST_LIST = 6, 20_000_000
_SHOWN = {"image/avif", "image/webp"}
_ACCEPT = "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8"


def _client(port: int) -> httpx.AsyncClient:
    return httpx.AsyncClient(
        proxy=f"socks5://127.0.0.1:{port}",
        timeout=_SECONDS,
        follow_redirects=False,
        trust_env=False,
        headers={"User-Agent": _AGENT},
    )


class _Reader:
    """Fetches, following redirects; what signs in goes to the page's own host alone."""

    def __init__(self, client: httpx.AsyncClient, tunnel: Tunnel, order: dict[str, Any]) -> None:
        self._client, self._tunnel = client, tunnel
        self._home = urlsplit(order["address"])[:2]
        self._own = dict(order.get("headers", ()))
        cookies = "; ".join(f"{name}={value}" for name, value in order.get("cookies", ()))
        if cookies:
            self._own["Cookie"] = cookies

    async def get(self, address: str, accept: str, most: int) -> tuple[httpx.Response, bytes, int]:
        """The answer, its body and the bytes that came. Raises :class:`Fault`."""
        for _ in range(11):
            own = self._own if urlsplit(address)[:2] == self._home else {}
            try:
                async with self._client.stream("GET", address, headers={"Accept": accept, **own}) as answer:
                    if answer.is_redirect:
                        address = urljoin(address, answer.headers.get("location", ""))
                        continue
                    body = bytearray()
                    async for piece in answer.aiter_bytes():
                        body += piece
                        if len(body) > most:
                            raise Fault("too-large", f"{address[:200]} is larger than {most // 10**6} MB")
                    return answer, bytes(body), answer.num_bytes_downloaded
            except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
                why = next(iter(self._tunnel.faults.values()), str(error) or type(error).__name__)
                code = "not-allowed" if "not listed as allowed" in why else "no-answer"
                raise Fault(code, why) from None
        raise Fault("redirects", "the page redirects in a loop: correct its redirects")


async def plain_page(port: int, tunnel: Tunnel, order: dict[str, Any], scratch: Path) -> dict[str, Any]:
    """As :func:`plumcrate.pages.visit.visit` tells, as far as markup and answers say it."""
    async with _client(port) as client:
        reader = _Reader(client, tunnel, order)
        answer, body, weight = await reader.get(order["address"], "text/html", _MOST_PAGE)
        kind = answer.headers.get("content-type", "").partition(";")[0].strip().lower()
        if answer.status_code in (401, 403):
            raise Fault("sign-in", f"the site answers {answer.status_code}: the page needs a sign-in")
        if answer.status_code >= 400:
            raise Fault("refused", f"the site answers {answer.status_code}")
        if kind not in ("text/html", "application/xhtml+xml"):
            raise Fault("not-html", f"the address holds no page: its type is {kind or 'not said'}")
        landed = str(answer.url)
        page = RequestRecord(
            "0", landed, "page", True, answer.status_code, kind, weight, ended=True, asked=landed
        )
        text = body.decode(answer.encoding or "utf-8", "replace")
        exchanges, pictures, bodies = [page], [], {}
        for number, (address, sort, facts) in enumerate(_named(text, landed), 1):
            if number > _MOST_FILES:
                break
            one = RequestRecord(str(number), address, sort, True, asked=address)
            exchanges.append(one)
            try:
                answer, body, one.bytes = await reader.get(address, _ACCEPT, _MOST_FILE)
            except Fault as fault:
                one.failed = str(fault)
                continue
            one.status, one.ended = answer.status_code, True
            one.media_type = answer.headers.get("content-type", "").partition(";")[0].strip().lower()
            if sort == "pictures":
                name = hashlib.sha256(body).hexdigest()
                (scratch / name).write_bytes(body)
                bodies[address] = name
                pictures.append(_picture(address, body, facts))
    notes = [
        "weighed without a browser: sizes as shown, what scripts load, times and the first view are not known"
    ]
    return {
        "landed": landed,
        "status": page.status,
        "notes": notes,
        "shots": [],
        "bodies": bodies,
        "times": dict.fromkeys(("ttfb", "fcp", "lcp", "cls", "load", "largest")),
        "page": {"width": 0, "height": 0, "frames": 0, "password": False, "pictures": pictures},
        "exchanges": [one.as_dict() for one in exchanges],
    }


def _picture(address: str, body: bytes, facts: dict[str, Any]) -> dict[str, Any]:
    try:
        natural = list(identify(body).shown_size)
    except ImagingError:
        natural = [0, 0]
    nowhere = {"left": 0, "top": 0, "width": 0, "height": 0}
    return {
        "address": address,
        "how": "img",
        "box": nowhere,
        "natural": natural,
        "drawn": [0, 0],
        "shown": False,
        "preloaded": False,
        **facts,
    }


def _named(page: str, address: str) -> list[tuple[str, str, dict[str, Any]]]:
    """What a page's markup names: addresses, kinds, and for pictures what is said of them; each once."""
    base: str | None = None
    language = ""
    found: dict[str, tuple[str, dict[str, Any]]] = {}

    def add(written: str, sort: str, facts: dict[str, Any]) -> None:
        try:
            full = urljoin(urljoin(address, base or ""), written.strip()).partition("#")[0]
        except ValueError:
            return
        if full.startswith(("http://", "https://")):
            found.setdefault(full, (sort, facts))

    tokenizer = Tokenizer()
    images: list[Tag] = []
    for tag in (*tokenizer.feed(page), *tokenizer.close()):
        if tag.closing:
            continue
        has = {name: attribute.text for name, attribute in tag.attributes.items()}
        if tag.name == "base" and base is None:
            base = has.get("href")
        elif tag.name == "html":
            language = has.get("lang", "")[:35]
        elif tag.name == "link" and "href" in has and "stylesheet" in has.get("rel", "").lower().split():
            add(has["href"], "styles", {})
        elif tag.name == "script" and "src" in has:
            add(has["src"], "scripts", {})
        elif tag.name == "img":
            images.append(tag)
    said = {}
    for tag in images:
        has = {name: attribute.text for name, attribute in tag.attributes.items()}
        stated = "width" in has and "height" in has
        said[has.get("src", "").strip()] = {
            "lazy": has.get("loading", "").lower() == "lazy",
            "stated": stated,
            "said": {"alternative": has["alt"][:500] if "alt" in has else None, "language": language},
        }
    for offer in offers_of(page):
        add(offer.chosen(_SHOWN), "pictures", said.get(offer.address, {"lazy": False, "stated": False}))
    return [(full, sort, facts) for full, (sort, facts) in found.items()]


async def fetch_list(port: int, tunnel: Tunnel, order: dict[str, Any]) -> dict[str, Any]:
    """The addresses of a sitemap (sitemaps.org, protocol 0.9) or of a list with one address a line: of its
    own site, one after the other, so many at most."""
    home = urlsplit(order["address"])[:2]
    lists, seen, pages, foreign = [order["address"]], set[str](), dict[str, None](), 0
    async with _client(port) as client:
        reader = _Reader(client, tunnel, order)
        while lists and len(seen) < _MOST_LISTS:
            address = lists.pop(0)
            if address in seen:
                continue
            seen.add(address)
            answer, body, _ = await reader.get(address, "application/xml,text/xml,text/plain", _MOST_LIST)
            if answer.status_code != 200:
                raise Fault("refused", f"the site answers {answer.status_code} for {address}")
            below, listed = read_list(_unpacked(body))
            for one in below:
                if urlsplit(one)[:2] == home:
                    lists.append(one)
            for one in listed:
                if urlsplit(one)[:2] == home:
                    pages.setdefault(one)
                else:
                    foreign += 1
    if not pages:
        raise Fault("no-pages", "the list names no page of its own site")
    most = int(order["most"])
    notes = []
    if foreign:
        notes.append(f"{foreign:,} addresses of other sites were passed over")
    if len(pages) > most or lists:
        notes.append(f"the first {min(most, len(pages)):,} of {len(pages):,} pages are weighed")
    return {"pages": list(pages)[:most], "notes": notes}


def _unpacked(body: bytes) -> bytes:
    if not body.startswith(b"\x1f\x8b"):
        return body
    try:
        with gzip.open(io.BytesIO(body)) as file:
            plain = file.read(_MOST_LIST + 1)
    except (OSError, EOFError, zlib.error):
        raise Fault("not-a-list", "the list is damaged") from None
    if len(plain) > _MOST_LIST:
        raise Fault("too-large", "the list is too large")
    return plain


def read_list(body: bytes) -> tuple[list[str], list[str]]:
    """Further lists that it names, and pages. Raises :class:`Fault`."""
    if body.lstrip()[:1] != b"<":
        lines = body.decode("utf-8-sig", "replace").split()
        return [], [line for line in lines if re.match(r"https?://", line)]
    try:
        root = fromstring(body)
    except Exception:
        raise Fault("not-a-list", "the list is neither a sitemap nor plain lines of addresses") from None
    places = [
        (entry.text or "").strip()
        for entry in root.iter()
        if isinstance(entry.tag, str) and entry.tag.rpartition("}")[2] == "loc"
    ]
    is_index = isinstance(root.tag, str) and root.tag.rpartition("}")[2] == "sitemapindex"
    return (places, []) if is_index else ([], places)
