"""Headers are read through windows; each file's fault is its own."""

import struct
import time
import tracemalloc
from pathlib import Path
from types import SimpleNamespace

import pytest
from conftest import add_library, photograph, surveyed
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from sqlalchemy import select

from plumcrate.contract.jobs import JobState
from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import RunRequest
from plumcrate.imaging.errors import Damaged, ImagingError, LeftAlone
from plumcrate.imaging.identification import MOST_SIDE, identify
from plumcrate.intake.headers import header_of
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library
from plumcrate.runs.runs import create_run
from plumcrate.storage.local import LocalStore


def png_header(width: int, height: int) -> bytes:
    header = struct.pack(">I", 13) + b"IHDR" + struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + header + b"\0" * 8 + b"IDAT" + b"\0" * 4


def looked_at(database: Database, root: Path, tmp_path: Path) -> tuple[SimpleNamespace, dict[str, File]]:
    with database.begin() as session:
        library = session.get_one(Library, 1)
    done = surveyed(database, Keeper.of(database, library, StateFolder(database, tmp_path / "state")))
    with database.begin() as session:
        return done, {file.path: file for file in session.scalars(select(File))}


def test_a_tiff_says_its_size_behind_its_pixels(tmp_path: Path) -> None:
    image = Image.new("RGB", (400, 300))
    image.save(tmp_path / "scan.tif", exif={0x0112: 6})
    data = (tmp_path / "scan.tif").read_bytes()
    # As scanners write it: the directory at the end.
    count = struct.unpack_from("<H", data, 8)[0]
    directory = data[8 : 14 + 12 * count]
    moved = (
        data[:4]
        + struct.pack("<I", len(data))
        + b"\0" * len(directory)
        + data[8 + len(directory) :]
        + directory
    )
    (tmp_path / "scan.tif").write_bytes(moved)
    (tmp_path / "cut.tif").write_bytes(moved[:-200])
    store = LocalStore(tmp_path)
    assert header_of(store, "scan.tif").shown_size == (300, 400)
    assert header_of(store, "cut.tif").shown_size == (0, 0)


def test_one_bad_file_stops_neither_survey_nor_run(database: Database, tmp_path: Path) -> None:
    root = tmp_path / "library"
    photograph(root / "good.jpg")
    (root / "sides.png").write_bytes(png_header(2**32 - 1, 2**32 - 1))
    (root / "ftyp.avif").write_bytes(b"\x7f\xff\xff\xff" + b"ftypavif" * 100_000)
    with (root / "sparse.jpg").open("wb") as file:
        file.write(b"\xff\xd8\xff\xe0")
        file.truncate(3_000_000_000)
    deep = root / "/".join(["😀" * 60] * 11)
    deep.mkdir(parents=True)
    photograph(deep / "deep.jpg")
    add_library(database, root)
    began = time.monotonic()
    done, files = looked_at(database, root, tmp_path)
    assert done.state == JobState.FINISHED
    assert time.monotonic() - began < 20
    assert files["good.jpg"].state == FileState.NEW
    for path in ("sides.png", "ftyp.avif", "sparse.jpg"):
        assert files[path].state == FileState.UNREADABLE, path
    assert "no picture has" in (files["sides.png"].reason or "")
    assert any("longer than 2,000 bytes" in note for note in done.notes), done.notes
    with database.begin() as session:
        run = create_run(session, session.get_one(Library, 1), RunRequest(library="l"))
        assert run.files >= 1


def test_a_header_is_read_through_windows(tmp_path: Path) -> None:
    with (tmp_path / "sparse.jpg").open("wb") as file:
        file.write(b"\xff\xd8\xff\xe0")
        file.truncate(3_000_000_000)
    tracemalloc.start()
    with pytest.raises(ImagingError):
        header_of(LocalStore(tmp_path), "sparse.jpg")
    assert tracemalloc.get_traced_memory()[1] < 60_000_000
    tracemalloc.stop()


def test_a_file_that_is_too_large_is_left_alone_before_it_is_read(
    database: Database, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from plumcrate.contract.automation import Automation
    from plumcrate.contract.recipes import RecipeSettings
    from plumcrate.imaging import Recipe
    from plumcrate.runs.treating import TreatOrder, treat_file

    root = tmp_path / "library"
    root.mkdir()
    with (root / "large.jpg").open("wb") as file:
        file.truncate(2_300_000_000)
    add_library(database, root)
    _, files = looked_at(database, root, tmp_path)
    with database.begin() as session:
        library = session.get_one(Library, 1)
    keeper = Keeper.of(database, library, StateFolder(database, tmp_path / "state"))
    monkeypatch.setattr(LocalStore, "read", lambda *_: pytest.fail("it was read"))
    order = TreatOrder(1, Recipe(), RecipeSettings(), Automation(), 300_000_000)
    with pytest.raises(LeftAlone, match="2,300 MB are more than the 300 MB"):
        treat_file(keeper, None, files["large.jpg"], order)  # type: ignore[arg-type]


@given(st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1))
def test_sides_are_bounded_where_they_are_read(width: int, height: int) -> None:
    try:
        facts = identify(png_header(width, height))
    except Damaged:
        assert not (0 < width <= MOST_SIDE and 0 < height <= MOST_SIDE)
    else:
        assert facts.width * facts.height <= MOST_SIDE**2 < 2**63
