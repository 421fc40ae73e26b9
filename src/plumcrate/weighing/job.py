"""The job: pages one after the other, each for real, then as each recipe would have it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urljoin, urlsplit

import structlog
from pydantic import BaseModel
from sqlalchemy import select

from plumcrate.contract.delivery import Delivery
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.weighing import (
    MOST_ADDRESSES,
    Device,
    PagePicture,
    Reading,
    Secrets,
    SeenQuality,
    WeighingKind,
    WeighingOrigin,
    WeighReport,
    WeighRequest,
    WhatIf,
)
from plumcrate.deciding.planning import settings_of
from plumcrate.imaging.errors import ImagingError
from plumcrate.jobs.long_work import Follow, Stopped
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.originals import largest_of, original_bytes
from plumcrate.keeping.sealing import CannotUnseal, Seal
from plumcrate.pages.faults import Fault
from plumcrate.pages.findings import FindingContext, findings_of, weight
from plumcrate.pages.page_reading import reading_of
from plumcrate.pages.process import Walls, Weigher, find_browser, weigher
from plumcrate.pages.profiles import PROCESSORS, USUAL
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.tables import File, Library
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.settings import Settings
from plumcrate.storage.errors import StorageError

from .grounds import Grounds
from .mapping import Mapped, Mapper
from .predicting import PredictedFile, Predictor
from .recording import PageResult, ShotTaken, page_of, record
from .sealing import unseal

log = structlog.get_logger()

#: A visit may take so many seconds; one in which pictures are treated for the first time much longer.
_VISIT, _PREDICTING = 150.0, 1_800.0
#: How often a page is visited until nothing new is treated.
_MOST_ROUNDS = 5
#: So many pictures of a page are judged as they are seen, the largest first.
_MOST_JUDGED = 80


class WeighOrder(WeighRequest):
    """A request, and where it comes from."""

    origin: WeighingOrigin = WeighingOrigin.PERSON
    run_id: int | None = None


@dataclass
class WeighingJob:
    """Everything that weighing a library's pages needs."""

    database: Database
    settings: Settings
    keeper: Keeper
    sandbox: Sandbox
    library: Library
    follow: Follow
    order: WeighOrder
    stopped: Callable[[], bool]
    report: WeighReport = field(default_factory=WeighReport)

    def carry_out(self) -> BaseModel:
        """Weighs what was asked for. Raises :class:`~plumcrate.jobs.long_work.Stopped`; StorageError with
        code ``no-pages`` when there is nothing to weigh."""
        addresses = self._addresses()
        self.report.pages = len(addresses)
        if not self.order.plain and find_browser(self._browser) is None:
            self.report.notes.append(
                "Chromium is not installed here: pages are weighed from their markup alone. "
                "Install it (on Debian: chromium) to measure times and sizes as shown"
            )
            self.order = self.order.model_copy(update={"plain": True})
        for address in addresses:
            self.report.at = address
            self.follow.report(self.report)
            with self.database.begin() as session:
                page = page_of(session, self.library.id, address)
            _PageWeighing(self, page.id, address, page.secrets, page.budget).weigh()
            self.report.weighed += 1
        self.report.at = ""
        return self.report

    @property
    def _browser(self) -> str | None:
        return str(self.settings.browser) if self.settings.browser is not None else None

    @property
    def walls(self) -> Walls:
        return Walls(
            self.settings.pages_allowed,
            self.settings.pages_most_mb * 1_000_000,
            self.settings.pages_memory_mb * 1_000_000,
            self._browser,
        )

    def _addresses(self) -> list[str]:
        site = Delivery.model_validate(self.library.delivery).address
        found: dict[str, None] = {}
        for written in self.order.addresses:
            if written.startswith("/") and site is None:
                raise StorageError(
                    "no-address",
                    f"{written} is a path, and it is not known where the site is: write the whole address",
                )
            found.setdefault(urljoin(site or "", written).partition("#")[0])
        if self.order.sitemap is not None:
            most = MOST_ADDRESSES - len(found)
            order = {"do": "list", "address": str(self.order.sitemap), "most": most}
            try:
                with weigher(self.walls) as process:
                    listed = process.call(order, 120, stopped=self.stopped)
            except Fault as fault:
                if fault.code == "stopped":
                    raise Stopped from None
                raise StorageError("no-pages", f"{self.order.sitemap}: {fault}") from None
            self.report.notes += listed["notes"]
            found |= dict.fromkeys(listed["pages"])
        return list(found)


@dataclass
class _PageWeighing:
    """One page, weighed for real and as each recipe would have it."""

    all: WeighingJob
    page_id: int
    address: str
    sealed: bytes | None
    budget: dict[str, Any] | None
    judged: dict[tuple[str, str, int, int], SeenQuality | None] = field(default_factory=dict)

    def weigh(self) -> None:
        order = self.all.order
        kind = WeighingKind.PLAIN if order.plain else WeighingKind.REAL
        try:
            secrets = unseal(Seal(self.all.settings.state_dir), self.sealed)
        except CannotUnseal as error:
            self._record(PageResult(kind, code="sealed", fault=str(error)))
            return
        with self.all.database.begin() as session:
            libraries = list(session.scalars(select(Library)))
        service = f"http://{self.all.settings.host}:{self.all.settings.port}"
        mapper = Mapper(libraries, self.address, service)
        try:
            with weigher(self.all.walls) as process:
                self._weigh_with(_PageServices(self, process, secrets, mapper), kind)
        except Fault as fault:
            self._record(PageResult(kind, code=fault.code, fault=str(fault)))

    def _weigh_with(self, house: _PageServices, kind: WeighingKind) -> None:
        order = self.all.order
        real = self._tried(PageResult(kind), house.plain if order.plain else house.real)
        if real.code is not None:
            return
        for what_if in order.what_if:
            with self.all.database.begin() as session:
                recipe = current_recipe(session, self.all.library.id)
            settings = what_if.settings or settings_of(recipe)
            if what_if.level is not None:
                settings = settings.model_copy(update={"level": what_if.level})
            version = recipe.version if settings == settings_of(recipe) else None
            result = PageResult(WeighingKind.PREDICTED, what_if, version)

            def predict(
                result: PageResult, what_if: WhatIf = what_if, settings: RecipeSettings = settings
            ) -> None:
                house.predict(result, what_if, settings, real.readings)

            if self._tried(result, predict).code is not None:
                return

    def _tried(self, result: PageResult, weigh: Callable[[PageResult], None]) -> PageResult:
        """Weighs and records; a page's fault is part of what is recorded."""
        try:
            try:
                weigh(result)
            except OSError as error:
                raise Fault("no-place", f"the machine has no place for it ({error.strerror})") from None
            except (KeyError, TypeError, ValueError, ArithmeticError) as error:
                # Much of what is told comes from the page itself: its nonsense costs that page alone.
                log.warning("a page told nonsense", page=self.page_id, error=type(error).__name__)
                raise Fault("nonsense", "the page reported measurements that cannot be right") from None
        except Fault as fault:
            if fault.code == "stopped":
                raise Stopped from None
            result.code, result.fault = fault.code, str(fault)
            result.readings, result.shots, result.findings = [], [], []
        self._record(result)
        return result

    def _record(self, result: PageResult) -> None:
        order = self.all.order
        budget = order.budget
        with self.all.database.begin() as session:
            number = record(
                session,
                self.all.library,
                self.page_id,
                result,
                origin=order.origin,
                by=self.all.follow.by,
                run_id=order.run_id,
                budget=budget,
            )
        self.all.report.weighings.append(number)
        self.all.follow.report(self.all.report)


class _PageServices:
    """What stands behind a browser while it weighs one page."""

    def __init__(self, page: _PageWeighing, process: Weigher, secrets: Secrets, mapper: Mapper) -> None:
        self._page, self._process, self._mapper = page, process, mapper
        self._all, self._secrets = page.all, secrets
        self._made: dict[Any, PredictedFile] = {}
        self._heads: dict[str, int] = {}
        self._plain: set[str] = set()

    # -- the three ways --------------------------------------------------------------------------

    def plain(self, result: PageResult) -> None:
        outcome = self._process.call(
            self._order(Device.DESKTOP) | {"do": "plain"}, _VISIT, stopped=self._all.stopped
        )
        line, processor = USUAL[Device.DESKTOP]
        reading = reading_of([outcome], Device.DESKTOP, line, processor)
        self._complete(result, reading, outcome, outcome)

    def real(self, result: PageResult) -> None:
        for device in self._all.order.devices:
            order = self._order(device)
            # Once unmeasured, so that neither browser nor site begins cold; looked at meanwhile.
            looked = self._visit(order | {"look": True, "line": "open", "slower": 1})
            self._heads |= self._heads_of(looked)
            self._plain |= self._plain_of(looked)
            self._measured(result, device, order, looked)

    def predict(
        self, result: PageResult, what_if: WhatIf, settings: RecipeSettings, real: Sequence[Reading]
    ) -> None:
        for device in self._all.order.devices:
            self._process.call({"do": "forget"}, 30)
            needs = self._needs(real, device) if what_if.fit else {}
            predictor = Predictor(
                self._all.database,
                self._all.keeper,
                self._all.library,
                self._all.sandbox,
                settings,
                self._mapper,
                needs=needs,
                known=self._made,
                save=self._save,
                heads=self._heads,
                plain_hosts=frozenset(self._plain) if what_if.markup else frozenset(),
            )
            predictor.reads_with(self._process.file)
            order = self._order(device) | {"predict": True, "rewrite": what_if.markup}
            for _ in range(_MOST_ROUNDS):
                predictor.fresh = 0
                looked = self._visit(
                    order | {"look": True, "line": "open", "slower": 1, "seconds": _PREDICTING}, predictor
                )
                if not predictor.fresh:
                    break
                self._process.call({"do": "forget"}, 30)
            self._measured(result, device, order, looked, predictor)
            result.notes += [note for note in predictor.notes if note not in result.notes]

    def _measured(
        self,
        result: PageResult,
        device: Device,
        order: dict[str, Any],
        looked: dict[str, Any],
        predictor: Predictor | None = None,
    ) -> None:
        outcomes = [self._visit(order, predictor) for _ in range(self._all.order.passes)]
        line, processor = self._profile(device)
        reading = reading_of([looked, *outcomes], device, line, processor)
        self._complete(result, reading, looked, outcomes[0])

    # -- asking the browser ------------------------------------------------------------------------

    def _profile(self, device: Device) -> tuple[Any, Any]:
        usual_line, usual_processor = USUAL[device]
        order = self._all.order
        return order.line or usual_line, order.processor or usual_processor

    def _order(self, device: Device) -> dict[str, Any]:
        line, processor = self._profile(device)
        return {
            "do": "visit",
            "address": self._page.address,
            "device": str(device),
            "line": str(line),
            "slower": PROCESSORS[processor],
            "predict": False,
            "rewrite": False,
            "look": False,
            "seconds": _VISIT,
            "cookies": [(line.name, line.value) for line in self._secrets.cookies],
            "headers": [(line.name, line.value) for line in self._secrets.headers],
        }

    def _visit(self, order: dict[str, Any], predictor: Predictor | None = None) -> dict[str, Any]:
        return self._process.call(
            order,
            order["seconds"] + 60,
            answerer=predictor.answer if predictor else None,
            stopped=self._all.stopped,
            at_a_time=max(2, self._all.settings.children),
        )

    def _save(self, data: bytes) -> str:
        name = hashlib.sha256(data).hexdigest()
        place = self._process.scratch / name
        if not place.exists():
            fresh = place.with_name(f".{name}")
            fresh.write_bytes(data)
            fresh.rename(place)
        return name

    # -- from what was seen to a reading ---------------------------------------------------------------

    def _complete(
        self, result: PageResult, reading: Reading, looked: dict[str, Any], measured: dict[str, Any]
    ) -> None:
        bodies = looked.get("bodies", {})
        addresses = [picture.address for picture in reading.pictures]
        with self._all.database.begin() as session:
            mapped = self._mapper.of(session, addresses)
        for picture in reading.pictures:
            found = mapped.get(picture.address)
            if found is not None:
                _name(picture, found)
        self._judge(reading, mapped, bodies)
        grounds = Grounds(self._all.database, self._all.library.id)
        ground = grounds.of(reading, mapped, self._hashes(bodies), looked, measured)
        if result.kind is WeighingKind.PREDICTED:
            # What is served is what would be: neither untreated nor anybody else's.
            ground = FindingContext({}, ground.begun, ground.varies, ground.failed, ground.expected)
        result.findings = sorted([*result.findings, *findings_of(reading, ground)], key=weight, reverse=True)
        result.readings.append(reading)
        result.shots.append(
            [
                ShotTaken(
                    shot["part"],
                    shot["width"],
                    shot["height"],
                    shot["scale"],
                    self._process.file(shot["file"]),
                )
                for shot in looked["shots"]
            ]
        )
        if looked["page"].get("password") and self._page.sealed is None:
            result.notes.append("the page asks for a password: it may be the way in, not the page itself")

    def _hashes(self, bodies: dict[str, str]) -> dict[str, bytes]:
        return {
            address: hashlib.sha256(self._process.file(name)).digest() for address, name in bodies.items()
        }

    def _plain_of(self, looked: dict[str, Any]) -> set[str]:
        """Hosts that send pictures and do not negotiate: markup has to name what they send. Where this
        service serves, it does."""
        delivery = Delivery.model_validate(self._all.library.delivery)
        ours = {f"{self._all.settings.host}:{self._all.settings.port}", urlsplit(delivery.base or "").netloc}
        return {
            host
            for row in looked["exchanges"]
            if row["kind"] == "pictures" and row["status"] == 200 and "accept" not in row["varies"].lower()
            if (host := urlsplit(row["address"]).netloc) not in ours
        }

    def _heads_of(self, looked: dict[str, Any]) -> dict[str, int]:
        """Bytes of headers that each host sends with a picture: what came less the picture itself."""
        found: dict[str, list[int]] = {}
        for row in looked["exchanges"]:
            body = looked["bodies"].get(row["asked"].partition("#")[0])
            if body is not None and row["status"] == 200:
                head = row["bytes"] - len(self._process.file(body))
                if 0 < head < 4_000:
                    found.setdefault(urlsplit(row["address"]).netloc, []).append(head)
        return {host: sorted(heads)[len(heads) // 2] for host, heads in found.items()}

    def _needs(self, real: Sequence[Reading], device: Device) -> dict[int, tuple[int, int]]:
        """The most that any place on a device needs of each picture."""
        needs: dict[int, tuple[int, int]] = {}
        for reading in real:
            if reading.device is not device:
                continue
            for picture in reading.pictures:
                if picture.picture_id is None or not picture.needed_width:
                    continue
                wide, high = needs.get(picture.picture_id, (0, 0))
                needs[picture.picture_id] = max(wide, picture.needed_width), max(high, picture.needed_height)
        return needs

    def _judge(self, reading: Reading, mapped: dict[str, Mapped], bodies: dict[str, str]) -> None:
        """The score of each picture as it is seen, the largest first."""
        ours = [
            picture
            for picture in reading.pictures
            if picture.address in mapped and picture.address in bodies and picture.needed_width
        ]
        ours.sort(key=lambda picture: -picture.needed_width * picture.needed_height)
        for picture in ours[:_MOST_JUDGED]:
            picture.seen = self._seen(picture, mapped[picture.address], bodies[picture.address])
        if len(ours) > _MOST_JUDGED:
            reading.notes.append(f"the {_MOST_JUDGED} largest pictures were judged as they are seen")

    def _seen(self, picture: PagePicture, mapped: Mapped, body: str) -> SeenQuality | None:
        if mapped.library_id != self._all.library.id:
            return None
        largest = largest_of(self._all.keeper, mapped.file)
        original = original_bytes(self._all.keeper, largest)
        if original is None:
            return None
        size = picture.needed_width, picture.needed_height
        key = body, hashlib.sha256(original).hexdigest(), *size
        if key not in self._page.judged:
            self._page.judged[key] = self._score(self._process.file(body), original, size)
        return self._page.judged[key]

    def _score(self, served: bytes, original: bytes, size: tuple[int, int]) -> SeenQuality | None:
        if served == original:
            return SeenQuality(score=100.0, worst=100.0, left=0.5, top=0.5)
        try:
            seen = self._all.sandbox.seen(served, original, size)
        except ImagingError:
            return None
        except SandboxError as error:
            if error.code == "stopped":
                raise
            return None
        return SeenQuality(score=seen.score, worst=seen.worst, left=seen.left, top=seen.top)


def _name(picture: PagePicture, found: Mapped) -> None:
    file: File = found.file
    picture.library, picture.path = found.slug, file.path
    picture.file_id, picture.picture_id = file.id, file.picture_id
    picture.form = found.form
    picture.untreated = file.treated_at is None and file.state == "new"
