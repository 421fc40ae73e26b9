"""What is served of a real library: forms, conditions and ranges over HTTP, and never an old picture."""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

import httpx
import psycopg
import pytest
from conftest import photograph
from sqlalchemy import select, text, update

sys.path.insert(0, str(Path(__file__).parents[1] / "work"))

from walk import Walk

from plumcrate.contract.runs import ItemState
from plumcrate.delivery.finding import Finder, Found
from plumcrate.delivery.serving import PictureServer
from plumcrate.intake.redirects import redirect, take_back
from plumcrate.intake.remaking import Remaking, make_copies_again
from plumcrate.keeping.changes import ChangeNote
from plumcrate.records.database import Database
from plumcrate.records.tables import Derived, File, Item, Library, Picture, Run

MODERN, SOME, OLD = "image/avif,image/webp,image/*,*/*;q=0.8", "image/webp,*/*", "image/png,*/*;q=0.5"


class Site:
    """The server over a treated library, its clock in hand, and what it said was lacking."""

    def __init__(self, walk: Walk) -> None:
        self.walk, self.now = walk, 0.0
        self.lacking: list[Found] = []
        self.finder = Finder(walk.database, clock=lambda: self.now)
        self.server = PictureServer(self.finder, self.lacking.append)

    def ask(
        self, path: str, accept: str | None = MODERN, method: str = "GET", **headers: str
    ) -> httpx.Response:
        wanted = {name.replace("_", "-"): value for name, value in headers.items()}
        if accept is not None:
            wanted["accept"] = accept
        return asyncio.run(self._ask(path, method, wanted))

    async def _ask(self, path: str, method: str, headers: dict[str, str]) -> httpx.Response:
        transport = httpx.ASGITransport(self.server)
        async with httpx.AsyncClient(transport=transport, base_url="http://site") as client:
            client.headers.pop("accept", None)
            return await client.request(method, path, headers=headers)

    def bytes_of(self, name: str) -> bytes:
        return (self.walk.root / name).read_bytes()

    def settle(self) -> None:
        """What was remembered is asked for anew."""
        self.now += 700


@pytest.fixture
def site(database: Database, tmp_path: Path) -> Site:
    walk = Walk(database, tmp_path)
    walk.arrive()
    walk.turn()
    assert walk.turn().state == ItemState.DONE
    opened(database)
    return Site(walk)


def opened(database: Database, **settings: object) -> None:
    """Makes the library public."""
    with database.begin() as session:
        session.execute(update(Library).values(delivery={"public": True} | settings))


@pytest.mark.parametrize(
    ("accept", "name", "media_type"),
    [
        (MODERN, "a.jpg.avif", "image/avif"),
        (SOME, "a.jpg.webp", "image/webp"),
        (OLD, "a.jpg", "image/jpeg"),
        (None, "a.jpg", "image/jpeg"),
        ("image/avif;q=0,image/webp", "a.jpg.webp", "image/webp"),
    ],
)
def test_each_browser_gets_the_lightest_it_can_show(
    site: Site, accept: str | None, name: str, media_type: str
) -> None:
    answer = site.ask("/l/a.jpg", accept)
    assert (answer.status_code, answer.content) == (200, site.bytes_of(name))
    assert answer.headers["content-type"] == media_type
    assert int(answer.headers["content-length"]) == len(answer.content)
    assert answer.headers["vary"] == "Accept"
    assert answer.headers["cache-control"] == "public, max-age=3600"
    assert answer.headers["accept-ranges"] == "bytes"
    assert answer.headers["cross-origin-resource-policy"] == "cross-origin"
    assert answer.headers.get("content-location") == (None if name == "a.jpg" else name)
    assert not answer.headers["etag"].startswith("W/")
    head = site.ask("/l/a.jpg", accept, "HEAD")
    assert (head.status_code, head.content) == (200, b"")
    assert dict(head.headers) == dict(answer.headers)
    assert site.lacking == []


def test_each_form_has_a_tag_of_its_own_and_is_not_sent_twice(site: Site) -> None:
    tags = {accept: site.ask("/l/a.jpg", accept).headers["etag"] for accept in (MODERN, SOME, OLD)}
    assert len(set(tags.values())) == 3
    for accept, tag in tags.items():
        again = site.ask("/l/a.jpg", accept, if_none_match=tag)
        assert (again.status_code, again.content) == (304, b"")
        assert again.headers["etag"] == tag
        assert again.headers["vary"] == "Accept"
        assert "content-type" not in again.headers
    assert site.ask("/l/a.jpg", OLD, if_none_match=tags[MODERN]).status_code == 200
    since = site.ask("/l/a.jpg").headers["last-modified"]
    assert site.ask("/l/a.jpg", if_modified_since=since).status_code == 304
    assert site.ask("/l/a.jpg", if_match='"x"').status_code == 412


def test_a_part_of_the_chosen_form(site: Site) -> None:
    whole = site.bytes_of("a.jpg.avif")
    tag = site.ask("/l/a.jpg").headers["etag"]
    answer = site.ask("/l/a.jpg", range="bytes=10-19", if_range=tag)
    assert (answer.status_code, answer.content) == (206, whole[10:20])
    assert answer.headers["content-range"] == f"bytes 10-19/{len(whole)}"
    assert answer.headers["content-length"] == "10"
    last = site.ask("/l/a.jpg", range="bytes=-7")
    assert (last.status_code, last.content) == (206, whole[-7:])
    beyond = site.ask("/l/a.jpg", range=f"bytes={len(whole)}-")
    assert (beyond.status_code, beyond.headers["content-range"]) == (416, f"bytes */{len(whole)}")
    assert site.ask("/l/a.jpg", range="bytes=0-1,4-5").content == whole
    assert site.ask("/l/a.jpg", OLD, range="bytes=10-19", if_range=tag).content == site.bytes_of("a.jpg")


def test_an_address_with_the_contents_number_never_changes(site: Site) -> None:
    content = site.ask("/l/a.jpg").headers["x-picture"]
    assert content == site.ask("/l/a.jpg", OLD).headers["x-picture"], "one for all its forms"
    lasting = site.ask(f"/l/a.jpg?v={content}").headers["cache-control"]
    assert lasting == "public, max-age=31536000, immutable"
    assert site.ask("/l/a.jpg?v=former").headers["cache-control"] == "public, no-cache"
    assert site.ask(f"/l/a.jpg?w=5&v={content}").status_code == 200
    opened(site.walk.database, max_age=0)
    site.settle()
    assert site.ask("/l/a.jpg").headers["cache-control"] == "public, no-cache"


def test_a_restored_picture_is_served_as_it_was_at_once(site: Site) -> None:
    assert site.ask("/l/a.jpg").headers["content-type"] == "image/avif"
    tag = site.ask("/l/a.jpg").headers["etag"]
    site.walk.keeper.restore(site.walk.file(), ChangeNote())
    for accept in (MODERN, SOME, OLD):
        answer = site.ask("/l/a.jpg", accept, if_none_match=tag)
        assert (answer.status_code, answer.content) == (200, site.walk.data)
        assert answer.headers["content-type"] == "image/jpeg"


def test_a_file_that_somebody_replaced_is_never_shown_by_its_old_copies(site: Site) -> None:
    assert site.ask("/l/a.jpg").headers["content-type"] == "image/avif"
    theirs = photograph(site.walk.root / "a.jpg", seed=9)
    for accept in (MODERN, SOME, OLD):
        answer = site.ask("/l/a.jpg", accept)
        assert (answer.status_code, answer.content) == (200, theirs)
    assert {(found.changed, found.forms[0].path) for found in site.lacking} == {(True, "a.jpg")}
    same_size = theirs[:-1] + bytes([theirs[-1] ^ 1])
    (site.walk.root / "a.jpg").write_bytes(same_size)
    assert site.ask("/l/a.jpg").content == same_size


def test_a_missing_or_foreign_copy_is_not_served_and_told(site: Site) -> None:
    (site.walk.root / "a.jpg.avif").unlink()
    answer = site.ask("/l/a.jpg")
    assert (answer.headers["content-type"], answer.content) == ("image/webp", site.bytes_of("a.jpg.webp"))
    assert [found.missing for found in site.lacking] == [True]
    (site.walk.root / "a.jpg.webp").write_bytes(b"RIFF of somebody else")
    assert site.ask("/l/a.jpg").content == site.bytes_of("a.jpg")


def test_a_copy_that_was_taken_back_is_answered_with_its_file(site: Site) -> None:
    """A page that is kept somewhere names copies long after a picture was put back."""
    original = site.walk.data
    site.walk.keeper.restore(site.walk.file(), ChangeNote())
    site.settle()
    for copy in ("a.jpg.avif", "a.jpg.webp"):
        for accept in (MODERN, OLD):
            answer = site.ask(f"/l/{copy}", accept)
            assert (answer.status_code, answer.content) == (200, original)
            assert answer.headers["content-type"] == "image/jpeg"
    assert site.ask("/l/none.jpg.avif").status_code == 404
    assert site.ask("/l/avif").status_code == 404
    assert site.ask("/l/a.jpg" + ".avif" * 600).status_code == 404, "nobody is led from name to name"


def test_what_vanishes_in_between_is_not_found(site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    asked = site.finder.find

    @contextlib.contextmanager
    def find(slug: str, path: str) -> Iterator[object]:
        with asked(slug, path) as found:
            shutil.rmtree(site.walk.root, ignore_errors=True)
            site.walk.root.mkdir()
            yield found

    monkeypatch.setattr(site.finder, "find", find)
    assert site.ask("/l/a.jpg").status_code in (404, 503)


@pytest.mark.parametrize(
    "path",
    [
        "/l/",
        "/l",
        "/",
        "/l/nothing.jpg",
        "/other/a.jpg",
        "/l/a.jpg/",
        "/l//a.jpg",
        "/l/a.txt",
        "/l/.plumcrate.id",
        "/l/.plumcrate-0.jpg",
        "/l/.hidden/a.jpg",
        "/l/below/.a.jpg",
        "/l/%2e%2e/secret.jpg",
        "/l/..%2fsecret.jpg",
        "/l/a.jpg%00.png",
        "/l/%2Fetc%2Fpasswd.jpg",
        "/l/a%5c.jpg",
        "/l/link.jpg",
        "/l/folder.jpg",
        "/l/pipe.jpg",
        "/l/linked/secret.jpg",
        "/l/" + "x" * 300 + ".jpg",
        "/l/" + "a/" * 1500 + "a.jpg",
    ],
)
def test_nothing_leads_out_and_nothing_hidden_is_shown(site: Site, path: str) -> None:
    root = site.walk.root
    secret = root.parent / "outside"
    secret.mkdir()
    (secret / "secret.jpg").write_bytes(b"a secret")
    (root.parent / "secret.jpg").write_bytes(b"a secret")
    (root / "link.jpg").symlink_to(secret / "secret.jpg")
    (root / "linked").symlink_to(secret)
    (root / "folder.jpg").mkdir()
    os.mkfifo(root / "pipe.jpg")
    (root / ".hidden").mkdir()
    for hidden in (".hidden/a.jpg", ".plumcrate-0.jpg"):
        (root / hidden).write_bytes(b"a secret")
    answer = site.ask(path)
    assert answer.status_code == 404
    assert b"secret" not in answer.content


def test_a_library_is_served_only_when_it_says_so(site: Site) -> None:
    with site.walk.database.begin() as session:
        session.execute(update(Library).values(delivery={}))
    site.settle()
    shut = site.ask("/l/a.jpg")
    assert shut.status_code == 404
    assert shut.content == site.ask("/nobody/a.jpg").content, "nobody learns which libraries there are"


@pytest.mark.parametrize("method", ["POST", "PUT", "DELETE", "PATCH", "OPTIONS", "PROPFIND"])
def test_pictures_are_only_fetched(site: Site, method: str) -> None:
    answer = site.ask("/l/a.jpg", method=method)
    assert (answer.status_code, answer.headers["allow"]) == (405, "GET, HEAD")


@pytest.mark.parametrize(
    "name", ["mit leer.jpg", "Möwe über.jpg", "100%.jpg", "why?.jpg", "a#1.jpg", "a+b&c=d;e.jpg", "灯台.jpg"]
)
def test_odd_names(site: Site, name: str) -> None:
    site.walk.keeper.upload(f"2025/{name}", site.walk.data, ChangeNote(detail={"by": "tests"}))
    assert site.ask(f"/l/2025/{quote(name)}").content == site.walk.data


def test_a_new_file_is_served_before_anybody_looked_at_it(site: Site) -> None:
    data = photograph(site.walk.root / "new.jpg", seed=3)
    answer = site.ask("/l/new.jpg")
    assert (answer.status_code, answer.content) == (200, data)
    assert site.ask("/l/new.jpg", if_none_match=answer.headers["etag"]).status_code == 304
    assert [found.changed for found in site.lacking] == [True, True]


def test_a_new_file_of_the_same_size_and_time_has_another_tag(site: Site) -> None:
    place = site.walk.root / "new.jpg"
    photograph(place, seed=8)
    first, facts = site.ask("/l/new.jpg"), place.stat()
    place.write_bytes(bytes(reversed(place.read_bytes())))
    os.utime(place, ns=(facts.st_atime_ns, facts.st_mtime_ns))
    again = site.ask("/l/new.jpg", if_none_match=first.headers["etag"])
    assert (again.status_code, again.content) == (200, place.read_bytes())


def test_a_file_of_a_far_year_is_served(site: Site) -> None:
    place = site.walk.root / "far.jpg"
    photograph(place)
    os.utime(place, (253_402_300_900, 253_402_300_900))  # the year 10000
    assert site.ask("/l/far.jpg").content == place.read_bytes()


def test_what_could_run_scripts_is_shut_in(site: Site) -> None:
    (site.walk.root / "logo.svg").write_text(
        "<svg xmlns='http://www.w3.org/2000/svg'><script>1</script></svg>"
    )
    answer = site.ask("/l/logo.svg")
    assert answer.headers["content-type"] == "image/svg+xml"
    assert "sandbox" in answer.headers["content-security-policy"]
    assert "content-security-policy" not in site.ask("/l/a.jpg").headers


def test_large_files_come_whole_in_parts(site: Site) -> None:
    data = site.walk.data + bytes(range(256)) * 8_000
    (site.walk.root / "large.jpg").write_bytes(data)
    assert site.ask("/l/large.jpg").content == data
    part = site.ask("/l/large.jpg", range="bytes=100-1900000")
    assert (part.status_code, part.content) == (206, data[100:1_900_001])


def test_a_library_that_is_away_is_told_from_one_without_pictures(site: Site) -> None:
    site.walk.root.rename(site.walk.root.parent / "elsewhere")
    answer = site.ask("/l/a.jpg")
    assert (answer.status_code, answer.headers["retry-after"]) == (503, "5")
    site.walk.root.mkdir()
    assert site.ask("/l/a.jpg").status_code == 503, "an empty folder in its place is not the library"


def test_a_file_that_made_way_leads_to_its_conversion(site: Site) -> None:
    with site.walk.database.begin() as session:
        file = session.scalars(select(File)).one()
        file.state = "removed"
        session.add(
            Derived(
                library_id=1,
                file_id=file.id,
                purpose="conversion",
                format="png",
                path="a b.png",
                size=3,
                sha256=b"x" * 32,
            )
        )
    (site.walk.root / "a.jpg").unlink()
    answer = site.ask("/l/a.jpg?x=1")
    assert (answer.status_code, answer.headers["location"]) == (302, "/l/a%20b.png?x=1")
    assert answer.headers["cache-control"] == "no-cache"


# -- what is lacking is made again -----------------------------------------------------------------


def automatic(database: Database) -> None:
    with database.begin() as session:
        session.execute(update(Library).values(automation={"new_files": "background"}))


def test_copies_that_are_missing_are_made_again_once(site: Site) -> None:
    walk, database = site.walk, site.walk.database
    automatic(database)
    lost = site.bytes_of("a.jpg.avif")
    (walk.root / "a.jpg.avif").unlink()
    assert make_copies_again(database, walk.engine.state, 1, walk.file().id)
    assert not make_copies_again(database, walk.engine.state, 1, walk.file().id)
    with database.begin() as session:
        assert session.scalars(select(Run.id).order_by(Run.id)).all() == [1, 2]
        session.execute(text("DELETE FROM run_items WHERE run_id = 1"))
    walk.turn()
    assert walk.item().state == ItemState.DONE
    assert site.bytes_of("a.jpg.avif") == lost
    assert site.ask("/l/a.jpg").content == lost


def test_by_hand_means_that_the_next_run_makes_them(site: Site) -> None:
    walk = site.walk
    (walk.root / "a.jpg.avif").unlink()
    assert make_copies_again(walk.database, walk.engine.state, 1, walk.file().id)
    with walk.database.begin() as session:
        assert session.scalars(select(Run.id)).all() == [1]
    assert walk.file().recipe is None


@pytest.fixture
def remaking(site: Site) -> Iterator[Remaking]:
    with contextlib.closing(Remaking(site.walk.database, site.walk.engine.state)) as found:
        yield found


def test_a_thousand_requests_for_one_missing_copy_are_one_note(site: Site, remaking: Remaking) -> None:
    walk = site.walk
    automatic(walk.database)
    (walk.root / "a.jpg.avif").unlink()
    noted = [remaking.note(1, "a.jpg", walk.file().id) for _ in range(1000)]
    assert noted.count(True) == 1
    remaking._pool.shutdown(wait=True)
    with walk.database.begin() as session:
        assert len(session.scalars(select(Item.id).where(Item.run_id == 2)).all()) == 1


def test_a_changed_file_is_looked_at(site: Site, remaking: Remaking) -> None:
    assert remaking.note(1, "new.jpg", None)
    assert not remaking.note(1, "new.jpg", None)
    remaking._pool.shutdown(wait=True)
    with site.walk.database.begin() as session:
        assert session.execute(text("SELECT path FROM arrivals")).scalars().all() == ["new.jpg"]


def test_a_copy_that_came_is_offered_as_soon_as_it_is_told(site: Site, database: Database) -> None:
    with psycopg.connect(database.url, autocommit=True) as listening:
        listening.execute("LISTEN plumcrate")
        (site.walk.root / "a.jpg.avif").rename(site.walk.root / "kept")
        with database.begin() as session:
            row = session.scalars(select(Derived).where(Derived.format == "avif")).one()
            kept = ("library_id", "file_id", "purpose", "format", "path", "size", "sha256")
            values = {name: getattr(row, name) for name in kept}
            session.delete(row)
        site.settle()
        assert site.ask("/l/a.jpg").headers["content-type"] == "image/webp"
        (site.walk.root / "kept").rename(site.walk.root / "a.jpg.avif")
        with database.begin() as session:
            session.add(Derived(**values))
        told = [notice.payload for notice in listening.notifies(timeout=5, stop_after=2)]
    assert any('"served" : "a.jpg"' in payload for payload in told)
    assert site.ask("/l/a.jpg").headers["content-type"] == "image/webp", "it is remembered"
    site.finder.forget((1, "a.jpg"))
    assert site.ask("/l/a.jpg").headers["content-type"] == "image/avif"


def test_a_picture_that_is_answered_with_another_is_redirected_until_that_is_taken_back(site: Site) -> None:
    photograph(site.walk.root / "b.jpg", seed=3)
    with site.walk.database.begin() as session:
        picture = session.scalars(select(Picture)).one()
        other = Picture(library_id=1, path="b.jpg", folder="", name="b.jpg")
        session.add(other)
        session.flush()
        size = (site.walk.root / "b.jpg").stat().st_size
        session.add(
            File(
                library_id=1,
                picture_id=other.id,
                path="b.jpg",
                format="jpeg",
                width=320,
                height=240,
                size_before=size,
                size_now=size,
                mtime_ns=1,
                mtime_ns_before=1,
            )
        )
        session.flush()
        redirect(session, picture, other, "Ada")
    site.settle()
    answer = site.ask("/l/a.jpg")
    assert (answer.status_code, answer.headers["location"]) == (302, "/l/b.jpg")
    assert answer.headers["cache-control"] == "no-cache"
    (site.walk.root / "b.jpg").rename(site.walk.root / "away.jpg")
    assert site.ask("/l/a.jpg").content == site.bytes_of("a.jpg.avif"), "nobody is sent where nothing is"
    (site.walk.root / "away.jpg").rename(site.walk.root / "b.jpg")
    assert site.ask("/l/a.jpg").status_code == 302
    with site.walk.database.begin() as session:
        take_back(session, session.scalars(select(Picture).where(Picture.path == "a.jpg")).one())
    site.settle()
    assert site.ask("/l/a.jpg").content == site.bytes_of("a.jpg.avif")
