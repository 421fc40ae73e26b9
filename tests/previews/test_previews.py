"""Small pictures: from the smallest file that suffices, once, for each library its own, and bounded on
disk."""

import asyncio
import io
import shutil
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import add_library, photograph, surveyed, wait_for
from PIL import Image
from sqlalchemy import select

from plumcrate.contract.pictures import FileRole, Purpose
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.keeping.versions import NoVersion, version_of
from plumcrate.previews.previews import USUAL_WIDTH, CannotShow, Previews
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library
from plumcrate.sandbox.children import Sandbox
from plumcrate.storage.grouping import USUAL_PATTERNS


class Counting:
    """A sandbox that only says what it was asked."""

    def __init__(self) -> None:
        self.asked: list[int] = []

    def preview(self, data: bytes, width: int) -> bytes:
        self.asked.append(len(data))
        return b"small"


@pytest.fixture(scope="module")
def sandbox() -> Iterator[Sandbox]:
    made = Sandbox(1, memory_mb=3000, seconds_per_megapixel=10)
    yield made
    made.close()


class Place:
    def __init__(self, database: Database, root: Path, state: Path) -> None:
        self.database, self.root = database, root
        self.state = StateFolder(database, state)
        with database.begin() as session:
            self.library = session.get_one(Library, 1)

    @property
    def keeper(self) -> Keeper:
        return Keeper.of(self.database, self.library, self.state)

    def look(self) -> dict[str, File]:
        surveyed(self.database, self.keeper)
        with self.database.begin() as session:
            return {file.path: file for file in session.scalars(select(File))}

    def previews(self, sandbox: Any, **options: int) -> Previews:
        sizes = {"most_bytes": 10**8, "room": 10**8, "threads": 2} | options
        return Previews(self.database, self.state, sandbox, **sizes)


@pytest.fixture
def place(database: Database, tmp_path: Path) -> Place:
    root = tmp_path / "site"
    root.mkdir()
    add_library(database, root, USUAL_PATTERNS)
    photograph(root / "kite.jpg", 1600, 1200)
    for width, height in ((800, 600), (400, 300), (400, 400), (160, 120)):
        photograph(root / f"kite-{width}x{height}.jpg", width, height)
    return Place(database, root, tmp_path / "state")


def shown(previews: Previews, file: File, width: int = USUAL_WIDTH) -> bytes:
    source = previews.source(file.id, width)
    assert source is not None
    return asyncio.run(previews.bytes_of(source, width))


def test_the_smallest_rendition_that_suffices_is_taken_and_a_crop_never(place: Place) -> None:
    files = place.look()
    previews = place.previews(Counting())
    assert files["kite.jpg"].picture_id == files["kite-400x300.jpg"].picture_id
    for width, path in ((320, "kite-400x300.jpg"), (100, "kite-160x120.jpg"), (700, "kite-800x600.jpg")):
        source = previews.source(files["kite.jpg"].id, width)
        assert source is not None
        assert source.path == path
    crop = previews.source(files["kite-400x400.jpg"].id, USUAL_WIDTH)
    assert crop is not None
    assert crop.path == "kite-400x400.jpg"
    assert previews.source(10**9, USUAL_WIDTH) is None
    previews.close()


def test_a_rendition_that_was_deleted_leaves_the_next_one_to_show(place: Place) -> None:
    files = place.look()
    previews = place.previews(Counting())
    paths = []
    for _ in range(3):
        source = previews.source(files["kite.jpg"].id, USUAL_WIDTH)
        assert source is not None
        paths.append(source.path)
        (place.root / source.path).unlink()
    assert paths == ["kite-400x300.jpg", "kite-800x600.jpg", "kite.jpg"]
    previews.close()


def test_it_is_made_once_however_many_ask_at_a_time(place: Place) -> None:
    files = place.look()
    sandbox = Counting()
    previews = place.previews(sandbox)
    source = previews.source(files["kite.jpg"].id, USUAL_WIDTH)
    assert source is not None

    async def many() -> list[bytes]:
        return await asyncio.gather(*(previews.bytes_of(source, USUAL_WIDTH) for _ in range(20)))

    assert set(asyncio.run(many())) == {b"small"}
    assert shown(previews, files["kite.jpg"]) == b"small"
    assert len(sandbox.asked) == 1
    previews.close()


def test_what_a_page_will_ask_for_is_made_ahead(place: Place) -> None:
    files = place.look()
    sandbox = Counting()
    previews = place.previews(sandbox)
    previews.ahead([file.id for file in files.values()] + [10**9])
    wait_for(lambda: len(sandbox.asked) >= 5)
    wait_for(lambda: len(list(previews.folder.glob("*/*/*.webp"))) == 5)
    for file in files.values():
        shown(previews, file)
    assert len(sandbox.asked) == 5
    previews.close()


def test_libraries_have_their_own_and_lose_them_when_they_go(place: Place) -> None:
    files = place.look()
    previews = place.previews(Counting())
    shown(previews, files["kite.jpg"])
    assert [path.parts[-3] for path in previews.folder.glob("*/*/*.webp")] == ["l"]
    previews.forget("l")
    assert list(previews.folder.glob("*/*/*.webp")) == []
    previews.close()


def test_the_oldest_make_room(place: Place) -> None:
    previews = place.previews(Counting(), room=1000)
    folder = previews.folder / "l" / "00"
    folder.mkdir(parents=True)
    for number in range(20):
        path = folder / f"{number:02d}.webp"
        path.write_bytes(b"x" * 100)
        import os

        os.utime(path, (number, number))
    assert previews.make_room() == 12
    left = sorted(path.name for path in folder.iterdir())
    assert left == [f"{number:02d}.webp" for number in range(12, 20)]
    assert previews.make_room() == 0
    previews.close()


def test_a_full_disk_costs_the_keeping_and_not_the_showing(place: Place) -> None:
    files = place.look()
    previews = place.previews(Counting())
    previews.folder.parent.mkdir(exist_ok=True)
    previews.folder.write_bytes(b"a file stands where the folder should be")
    assert shown(previews, files["kite.jpg"]) == b"small"
    previews.close()


def test_too_large_a_file_is_not_read(place: Place) -> None:
    files = place.look()
    previews = place.previews(Counting(), most_bytes=10)
    with pytest.raises(CannotShow, match="too large"):
        shown(previews, files["kite.jpg"])
    previews.close()


def test_sixteen_bits_and_transparency_are_shown(place: Place, sandbox: Sandbox) -> None:
    ramp = np.tile(np.linspace(0, 65535, 300).astype(np.uint16), (200, 1))
    Image.fromarray(ramp).save(place.root / "deep.png")
    Image.new("RGBA", (300, 200), (200, 30, 60, 90)).save(place.root / "clear.png")
    files = place.look()
    previews = place.previews(sandbox)
    with Image.open(io.BytesIO(shown(previews, files["deep.png"], 150))) as image:
        grey = np.asarray(image.convert("L")).astype(int)
        assert image.size == (150, 100)
        assert grey[50, 5] < 20
        assert abs(grey[50, 75] - 128) < 12, "not cut to white"
        assert grey[50, 145] > 235
    with Image.open(io.BytesIO(shown(previews, files["clear.png"], 150))) as image:
        assert image.mode == "RGBA"
    previews.close()


def converted(place: Place) -> File:
    """A PNG whose conversion took its place."""
    shutil.copy(place.root / "kite.jpg", place.root / "other.jpg.source")
    Image.open(place.root / "kite.jpg").save(place.root / "chart.png")
    file = place.look()["chart.png"]
    data = (place.root / "other.jpg.source").read_bytes()
    place.keeper.write_derived(
        file, Beside(Purpose.CONVERSION, "jpeg", ".jpg", 1600, 1200), data, ChangeNote()
    )
    with place.database.begin() as session:
        file = session.get_one(File, file.id)
    place.keeper.withdraw(file, (place.root / "chart.png").read_bytes(), ChangeNote())
    with place.database.begin() as session:
        return session.get_one(File, file.id)


def test_a_picture_that_made_way_is_shown_as_its_conversion(place: Place, sandbox: Sandbox) -> None:
    file = converted(place)
    assert (file.state, file.role) == ("removed", FileRole.ORIGINAL)
    previews = place.previews(sandbox)
    with Image.open(io.BytesIO(shown(previews, file))) as image:
        assert image.width == USUAL_WIDTH
    previews.close()


def test_versions_of_a_picture_that_made_way(place: Place) -> None:
    file = converted(place)
    now, jpeg, before = (version_of(place.keeper, file, name) for name in ("now", "jpeg", "before"))
    assert (now.path, now.format) == (jpeg.path, jpeg.format) == ("chart.jpg", "jpeg")
    with now.open() as stream:
        assert stream.read() == (place.root / "chart.jpg").read_bytes()
    with before.open() as stream:
        assert stream.read(4) == b"\x89PNG"
    with pytest.raises(NoVersion, match="no version webp"):
        version_of(place.keeper, file, "webp")


def test_no_more_wait_for_being_made_ahead_than_a_page_or_two_shows(place: Place) -> None:
    """Five thousand that were asked for ahead would stand before what somebody looks at."""
    let_on = threading.Event()

    class Slow(Counting):
        def preview(self, data: bytes, width: int) -> bytes:
            let_on.wait(60)
            return super().preview(data, width)

    files = place.look()
    previews = place.previews(Slow(), threads=1)
    try:
        previews.ahead([files["kite.jpg"].id] * 50)
        previews.ahead(range(10**6, 10**6 + 5_000))
        assert previews._pool._work_queue.qsize() <= 200
    finally:
        let_on.set()
        previews.close()
