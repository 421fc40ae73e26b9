"""Visitors who ask for less data get leaner copies of what weighed pages show, and nobody else does."""

from __future__ import annotations

import asyncio
from pathlib import Path

import httpx
import pytest
from conftest import photograph
from sqlalchemy import func, select
from walk import Walk

from plumcrate.contract.delivery import Delivery, Markup, PageFile
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import ItemState, RunOrigin, RunRequest
from plumcrate.delivery.finding import Finder
from plumcrate.delivery.serving import PictureServer
from plumcrate.imaging import Chosen, Level, Recipe, treat
from plumcrate.intake.survey import survey
from plumcrate.keeping.versions import version_of
from plumcrate.markup import rewrite
from plumcrate.markup.offers import offers_of
from plumcrate.queue.tasks import BULK
from plumcrate.records.database import Database
from plumcrate.records.queries.pages import page_files
from plumcrate.records.tables import Derived, File, Library, PageUse, Picture, RecipeVersion, SitePage
from plumcrate.runs.runs import create_run

MODERN = "image/avif,image/webp,*/*"
TYPES = {"jpeg": "image/jpeg", "webp": "image/webp", "avif": "image/avif"}


class Site(Walk):
    """A walk whose library saves data, treated; a weighed page may show its picture."""

    def __init__(self, database: Database, tmp_path: Path, *, shown: bool) -> None:
        super().__init__(database, tmp_path)
        (self.root / "a.jpg").write_bytes(self.data)
        survey(database, self.keeper, self.library, lambda report: None)
        with database.begin() as session:
            library = session.get_one(Library, 1)
            library.delivery = {"public": True}
            session.add(
                RecipeVersion(
                    library_id=1,
                    version=2,
                    settings=RecipeSettings(save_data=True).model_dump(mode="json"),
                    by="tests",
                )
            )
            if shown:
                page = SitePage(library_id=1, address="https://ledge.example/")
                session.add(page)
                session.flush()
                picture = session.scalars(select(Picture.id)).one()
                session.add(PageUse(page_id=page.id, picture_id=picture, number=0, library_id=1))
        self.run()

    def run(self) -> None:
        with self.database.begin() as session:
            library = session.get_one(Library, 1)
            create_run(session, library, RunRequest(library="l"), RunOrigin.PERSON, BULK)
        assert self.turn().state == ItemState.DONE

    def kinds(self) -> set[tuple[str, str]]:
        with self.database.begin() as session:
            return set(session.execute(select(Derived.purpose, Derived.format)).all())

    def ask(self, accept: str = MODERN, **headers: str) -> httpx.Response:
        async def fetch() -> httpx.Response:
            transport = httpx.ASGITransport(PictureServer(Finder(self.database), lambda found: None))
            async with httpx.AsyncClient(transport=transport, base_url="http://site") as client:
                return await client.get("/l/a.jpg", headers={"accept": accept, **headers})

        return asyncio.run(fetch())


@pytest.fixture
def site(database: Database, tmp_path: Path) -> Site:
    return Site(database, tmp_path, shown=True)


def test_only_pictures_of_weighed_pages_have_leaner_copies(database: Database, tmp_path: Path) -> None:
    site = Site(database, tmp_path, shown=False)
    assert site.kinds() == {("copy", "webp"), ("copy", "avif")}
    assert site.ask().headers["vary"] == "Accept"


def test_who_asks_for_less_data_gets_the_leaner_copy(site: Site) -> None:
    assert ("save-data", "avif") in site.kinds()
    usual, leaner = site.ask(), site.ask(**{"Save-Data": "on"})
    assert usual.content == (site.root / "a.jpg.avif").read_bytes()
    assert leaner.content == (site.root / "a.jpg.save-data.avif").read_bytes()
    assert len(leaner.content) <= 0.9 * len(usual.content)
    assert usual.headers["vary"] == leaner.headers["vary"] == "Accept, Save-Data"
    assert site.ask(**{"Save-Data": "off"}).content == usual.content
    assert site.ask("image/jpeg", **{"Save-Data": "on"}).content == (site.root / "a.jpg").read_bytes()


def test_what_is_promised_of_the_picture_is_not_what_the_leaner_copy_scores(site: Site) -> None:
    with site.database.begin() as session:
        file = session.scalars(select(File)).one()
        query = select(Derived.purpose, func.min(Derived.score)).group_by(Derived.purpose)
        scores = dict(session.execute(query).all())
        lightest = session.scalars(select(Picture.bytes_lightest)).one()
        assert file.score is not None
        assert file.score > 79
        assert scores["save-data"] < file.score
        assert lightest == min(copy.size for copy in file.copies)


def test_a_page_offers_the_leaner_copy_first_to_who_asks_for_it(site: Site) -> None:
    def look_up(paths: list[str]) -> dict[str, PageFile]:
        with site.database.begin() as session:
            return {path: file for path, (_, file) in page_files(session, 1, paths, TYPES).items()}

    rules = Delivery(address="https://ledge.example/media", markup=Markup(elements=True))
    page = b'<img src="/media/a.jpg" alt="">'
    out, _ = rewrite(page, "https://ledge.example/", rules, look_up, None)
    medium = b'media="(prefers-reduced-data: reduce)"'
    assert b'<source type="image/avif" ' + medium + b' srcset="/media/a.jpg.save-data.avif"' in out
    assert out.index(b"a.jpg.save-data.avif") < out.index(b"/media/a.jpg.avif")
    (offer,) = offers_of(out.decode())
    assert offer.chosen(frozenset({"image/avif"})) == "/media/a.jpg.avif"


def test_leaner_copies_go_with_the_hand_back_and_are_known_where_they_were_moved(site: Site) -> None:
    (site.root / "moved").mkdir()
    for name in sorted(path.name for path in site.root.glob("a.jpg*")):
        (site.root / name).rename(site.root / "moved" / name)
    with site.database.begin() as session:
        library = session.get_one(Library, 1)
    survey(site.database, site.keeper, library, lambda report: None)
    with site.database.begin() as session:
        there = set(session.scalars(select(Derived.path)))
        file = session.scalars(select(File).where(File.state != "gone")).one()
    assert "moved/a.jpg.save-data.avif" in there
    assert file.path == "moved/a.jpg"


def test_the_leanest_level_has_nothing_leaner_and_each_level_has_the_next(tmp_path: Path) -> None:
    data = photograph(tmp_path / "a.jpg", 480, 320, seed=2)
    lean = treat(data, Recipe(Level.LEAN, save_data=True))
    assert lean.of("save-data") == ()
    gallery = treat(data, Recipe(Level.GALLERY, frozenset({"webp"}), save_data=True))
    (leaner,) = gallery.of("save-data")
    assert isinstance(leaner, Chosen)
    (usual,) = gallery.of("copy")
    assert 79.5 <= (leaner.score or 0) < (usual.score or 0)


def test_both_copies_of_a_format_can_be_looked_at(site: Site) -> None:
    with site.database.begin() as session:
        file = session.scalars(select(File)).one()
        paths = {name: version_of(site.keeper, file, name).path for name in ("avif", "save-data-avif")}
    assert paths == {"avif": "a.jpg.avif", "save-data-avif": "a.jpg.save-data.avif"}
