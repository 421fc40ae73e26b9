"""What each browser gets, asked for real: through the site, as an old, a WebP and an AVIF browser asks."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from urllib.parse import quote, urljoin, urlsplit

from plumcrate.contract.delivery import Browser, Delivery, Got, PageFile
from plumcrate.markup.addresses import Addresses
from plumcrate.markup.offers import ImageOffer, offers_of
from plumcrate.outgoing import CannotReach, Outgoing

from .purging import said_by

#: What browsers send for an ``<img>``.
ACCEPT = {
    Browser.OLD: "image/png,image/*;q=0.8,*/*;q=0.5",
    Browser.WEBP: "image/webp,image/apng,image/*,*/*;q=0.8",
    Browser.AVIF: "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8",
}
_SHOWS = {
    Browser.OLD: frozenset[str](),
    Browser.WEBP: frozenset({"image/webp"}),
    Browser.AVIF: frozenset({"image/webp", "image/avif"}),
}
#: What asks says so; a page and a picture have at most so many bytes, and take so many seconds.
AGENT = "PlumCrate (check)"
SECONDS = 10.0
_MOST_PAGE, _MOST_PICTURE = 20_000_000, 100_000_000
_TOLD = (
    "content-type",
    "content-length",
    "vary",
    "etag",
    "cache-control",
    "age",
    "cache-status",
    "content-location",
    "location",
    "server",
    "via",
)


class CannotAsk(Exception):
    """There is nothing to ask for; the text says why."""


@dataclass(frozen=True, slots=True)
class Question:
    """A picture, and the address that each browser would choose for it, with the path that lies there: the
    site may offer renditions of its own in other formats."""

    path: str
    addresses: dict[Browser, str]
    paths: dict[Browser, str]


class Asker:
    """Asks one site. Only addresses of the library are ever asked for, and only those that ``out`` may reach.
    ``stopped``: whether whoever asked has gone."""

    def __init__(
        self, settings: Delivery, out: Outgoing, *, stopped: Callable[[], bool] = lambda: False
    ) -> None:
        if settings.address is None:
            raise CannotAsk("set first where the site serves the library's folder (address)")
        self._settings, self._home = settings, settings.address
        self._out, self._stopped = out, stopped

    def of_file(self, path: str) -> Question:
        address = f"{self._home.rstrip('/')}/{quote(path)}"
        return Question(path, dict.fromkeys(Browser, address), dict.fromkeys(Browser, path))

    def of_page(self, page: str) -> list[Question]:
        """The pictures of a page, with what its markup offers to each browser. Raises :class:`CannotAsk`."""
        try:
            address = urljoin(self._home, page)
            same = urlsplit(address)[:2] == urlsplit(self._home)[:2]
        except ValueError:
            same = False
        if not same:
            raise CannotAsk("the page must be of the site that serves the library")
        try:
            answer = self._out.ask("GET", address, headers={"Accept": "text/html"}, most=_MOST_PAGE)
        except CannotReach as error:
            raise CannotAsk(str(error)) from None
        if answer.status != 200:
            raise CannotAsk(f"the site answered {answer.status} for {address}")
        return [
            question
            for offer in offers_of(answer.text())
            if (question := self._question(offer, address)) is not None
        ]

    def _question(self, offer: ImageOffer, page: str) -> Question | None:
        """None for pictures that are not of the library."""
        try:
            page = urljoin(page, offer.base or "")
        except ValueError:
            return None
        homes = [self._home, *([self._settings.base] if self._settings.base else [])]
        places = [Addresses(page, home) for home in homes]

        def path_of(address: str) -> str | None:
            found = (place.place(address) for place in places)
            return next((place.path for place in found if place is not None), None)

        own = path_of(offer.address)
        chosen = {browser: offer.chosen(_SHOWS[browser]) for browser in Browser}
        paths = {
            browser: path for browser, address in chosen.items() if (path := path_of(address)) is not None
        }
        if own is None or len(paths) < len(chosen):
            return None
        return Question(own, {browser: urljoin(page, address) for browser, address in chosen.items()}, paths)

    def ask(self, questions: Sequence[Question], files: dict[str, PageFile]) -> list[list[Got]]:
        """For each question what each browser received; ``files``: what is on record, by path."""
        with ThreadPoolExecutor(4, thread_name_prefix="asking") as pool:
            asked = [
                [pool.submit(self._as, browser, question, files) for browser in Browser]
                for question in questions
            ]
            return [[each.result() for each in row] for row in asked]

    def _as(self, browser: Browser, question: Question, files: dict[str, PageFile]) -> Got:
        address = question.addresses[browser]
        got = Got(browser=browser, address=address, status=0)
        try:
            if self._stopped():
                raise CannotReach("whoever asked has gone")
            answer = self._out.ask(
                "GET", address, headers={"Accept": ACCEPT[browser]}, most=_MOST_PICTURE, stopped=self._stopped
            )
        except CannotReach as error:
            got.fault = str(error)
            return got
        got.status, got.bytes = answer.status, answer.size
        got.headers = {name: value for name, value in answer.headers.items() if name in _TOLD}
        got.media_type = answer.headers.get("content-type", "").partition(";")[0].strip().lower()
        status = got.headers.get("cache-status")
        got.cache = said_by(status) if status else None
        got.fault = _fault(got, question, files.get(question.paths[browser]) or files.get(question.path))
        return got


def _fault(got: Got, question: Question, file: PageFile | None) -> str | None:
    """What is wrong with an answer, in plain words; None where nothing is."""
    if got.status != 200:
        return f"the site answered {got.status}"
    if file is None:
        return None
    forms: list[tuple[str, int]] = [(file.media_type, file.bytes)]
    forms += [(copy.media_type, copy.bytes) for copy in file.copies]
    shown = [form for form in forms if form[0] == file.media_type or form[0] in _SHOWS[got.browser]]
    if got.media_type not in {kind for kind, _ in shown}:
        return f"a browser that does not show {got.media_type or 'it'} received it"
    if len(set(question.addresses.values())) > 1:
        # The page offers kinds: it leaves one out where a narrow screen would fetch more by it.
        return None
    if file.sizes:
        best = min(shown, key=lambda form: form[1])[0]
        return None if got.media_type == best else f"{best} would be lighter"
    lightest = min(size for _, size in shown)
    if got.bytes > lightest:
        return f"a lighter form is there: {lightest:,} bytes instead of {got.bytes:,}"
    if len(forms) > 1 and "accept" not in _listed(got.headers.get("vary", "")):
        return "the answer does not say Vary: Accept, so caches may give it to the wrong browser"
    return None


def _listed(value: str) -> Iterable[str]:
    return [part.strip().lower() for part in value.split(",")]
