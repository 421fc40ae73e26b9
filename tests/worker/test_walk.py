"""One upload as data, from arrival to ledger: what is read, hashed, treated, asked; and nothing twice."""

from __future__ import annotations

import hashlib
import io
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from PIL import Image
from sqlalchemy import event, select
from walk import Walk

from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import ItemState
from plumcrate.imaging import Recipe, treat
from plumcrate.imaging.outcome import Former
from plumcrate.keeping.changes import ChangeNote
from plumcrate.records.database import Database
from plumcrate.records.tables import Item, Library, Run
from plumcrate.runs.runs import retry_failed
from plumcrate.sandbox.children import SandboxError
from plumcrate.storage.local import LocalStore


@pytest.fixture
def counts(monkeypatch: pytest.MonkeyPatch, database: Database) -> Iterator[Counter[str]]:
    """Opened files, hashes of pictures, and statements, as they are counted."""
    found: Counter[str] = Counter()
    opened, sha256, file_digest = LocalStore.open, hashlib.sha256, hashlib.file_digest

    def open_(self: LocalStore, path: str) -> Any:
        found["opens"] += 1
        return opened(self, path)

    def sha256_(data: bytes = b"", **options: Any) -> Any:
        found["hashes"] += len(data) > 1000
        return sha256(data, **options)

    def file_digest_(file: Any, name: str) -> Any:
        found["hashes"] += 1
        return file_digest(file, name)

    monkeypatch.setattr(LocalStore, "open", open_)
    monkeypatch.setattr(hashlib, "sha256", sha256_)
    monkeypatch.setattr(hashlib, "file_digest", file_digest_)

    def statement(*_: Any) -> None:
        found["statements"] += 1

    event.listen(database.engine, "before_cursor_execute", statement)
    yield found
    event.remove(database.engine, "before_cursor_execute", statement)


@pytest.fixture
def walk(database: Database, tmp_path: Path) -> Walk:
    return Walk(database, tmp_path)


def test_an_upload_is_served_light_first_and_is_not_treated_twice(walk: Walk) -> None:
    walk.arrive()
    light = walk.turn()
    assert (light.state, light.stage) == (ItemState.WAITING, 1)
    served = (walk.root / "a.jpg").read_bytes()
    assert len(served) < len(walk.data)
    assert walk.file().derived == []
    done = walk.turn()
    assert done.state == ItemState.DONE
    assert (walk.root / "a.jpg").read_bytes() == served
    assert {path.name for path in walk.root.glob("a.jpg.*")} == {
        f"a.jpg.{one.format}" for one in walk.file().derived
    }

    (first, no_copies, nothing), (second, copies, former) = walk.box.asked
    assert first == second == walk.data, "both start from the original"
    assert (no_copies, nothing) == (frozenset(), None)
    assert copies == {"webp", "avif"}
    beside = walk.box.answers[1]
    assert {output.role for output in beside.outputs} == {"copy"}, "the file itself is not treated again"
    landed = walk.box.answers[0].main
    assert former == Former(len(served), landed.step)
    assert landed.step is not None

    at_once = treat(walk.data, Recipe())
    encodes = sum(output.encodes for answer in walk.box.answers for output in answer.outputs)
    assert encodes == sum(output.encodes for output in at_once.outputs), "no more work than in one go"
    staged = {
        (output.role, output.format, output.size) for answer in walk.box.answers for output in answer.outputs
    }
    assert staged == {(output.role, output.format, output.size) for output in at_once.outputs}
    reports = {(report["role"], report["format"]): report for report in done.outputs}
    assert set(reports) == {("file", "jpeg"), ("copy", "webp"), ("copy", "avif")}
    assert reports["file", "jpeg"]["size"] == len(served)


def test_what_it_takes_from_arrival_to_ledger(walk: Walk, counts: Counter[str]) -> None:
    steps: list[tuple[int, int, int]] = []
    for step in (walk.arrive, walk.turn, walk.turn):
        counts.clear()
        step()
        steps.append((counts["opens"], counts["hashes"], counts["statements"]))
    walk.turn()
    written = len(walk.file().derived)
    assert written == 2
    # The documentation tells these (docs/architecture.md); the feeder's and this test's own questions count.
    assert [opens for opens, _, _ in steps] == [1, 5, 1 + written]
    assert [hashes for _, hashes, _ in steps] == [1, 5, 4]
    assert steps[0][2] <= 46
    assert steps[1][2] <= 39 + 14 + 4
    assert steps[2][2] <= 43 + 13 + 4
    assert walk.ledger() == ["upload", "replace", "copy", "copy"]


def test_killed_between_the_stages_the_copies_still_come(walk: Walk, database: Database) -> None:
    walk.arrive()
    walk.turn()
    with database.begin() as session:
        item = session.scalars(select(Item)).one()
        item.state, item.job_id = ItemState.WORKING, 424242  # a worker that is no more had it
    assert walk.turn().state == ItemState.DONE
    assert {one.format for one in walk.file().derived} == {"webp", "avif"}
    assert len(walk.box.asked) == 2


def test_without_backups_all_comes_from_one_reading(walk: Walk, database: Database) -> None:
    with database.begin() as session:
        library = session.get_one(Library, 1)
        library.automation = {**library.automation, "backups": False}
    walk.arrive()
    assert walk.turn().state == ItemState.DONE
    ((_, copies, former),) = walk.box.asked
    assert (copies, former) == ({"webp", "avif"}, None)
    assert len(walk.file().derived) == 2


def test_a_file_kept_as_it_is_gets_its_copies_all_the_same(walk: Walk) -> None:
    out = io.BytesIO()
    with Image.open(io.BytesIO(walk.data)) as image:
        image.save(out, "JPEG", quality=30, progressive=True, optimize=True)
    walk.data = out.getvalue()
    walk.arrive()
    walk.turn()
    done = walk.turn()
    assert done.state in (ItemState.DONE, ItemState.PASSED)
    assert walk.box.asked[1][2] == Former(
        len((walk.root / "a.jpg").read_bytes()), walk.box.answers[0].main.step
    )


def failing(walk: Walk, monkeypatch: pytest.MonkeyPatch) -> Item:
    """The second stage of an upload fails for good; the item then."""
    walk.arrive()
    walk.turn()
    with monkeypatch.context() as broken:

        def out_of_memory(*_: object) -> None:
            raise SandboxError("out-of-memory", "it needs more than a child may use; it was left as it is")

        broken.setattr(walk.box, "treat", out_of_memory)
        return walk.turn()


def test_a_program_that_was_replaced_beneath_the_worker_makes_no_file_fail(
    walk: Walk, monkeypatch: pytest.MonkeyPatch
) -> None:
    walk.arrive()
    with monkeypatch.context() as replaced:

        def other_version(*_: object) -> None:
            raise SandboxError("other-version", "the program's files were replaced while it ran")

        replaced.setattr(walk.box, "treat", other_version)
        waiting = walk.turn()
    assert waiting.state not in (ItemState.FAILED, ItemState.DONE)
    assert (waiting.code, waiting.tries) == ("other-version", 0)
    assert (walk.root / "a.jpg").read_bytes() == walk.data


def retried(walk: Walk) -> Item:
    with walk.database.begin() as session:
        run = session.get_one(Run, walk.item().run_id)
        assert retry_failed(session, run) == 1
    return walk.turn()


def test_an_upload_whose_copies_failed_is_light_and_says_so_and_a_retry_makes_them(
    walk: Walk, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert failing(walk, monkeypatch).state == ItemState.FAILED
    light = (walk.root / "a.jpg").read_bytes()
    file = walk.file()
    assert (file.state, file.recipe) == (FileState.LIGHTER, None), "the next run makes what is lacking"
    assert len(light) < len(walk.data)
    done = retried(walk)
    assert done.state == ItemState.DONE
    file = walk.file()
    assert (file.state, len(file.derived)) == (FileState.LIGHTER, 2)
    assert file.score is not None
    assert file.recipe is not None
    assert (walk.root / "a.jpg").read_bytes() == light
    assert {(one["role"], one["verdict"]) for one in done.outputs} == {
        ("file", "chosen"),
        ("copy", "chosen"),
    }
    assert len(walk.box.asked) == 2, "the file itself was treated once"


def test_an_upload_that_was_restored_before_its_retry_is_treated_whole(
    walk: Walk, monkeypatch: pytest.MonkeyPatch
) -> None:
    failing(walk, monkeypatch)
    walk.keeper.restore(walk.file(), ChangeNote())
    assert (walk.root / "a.jpg").read_bytes() == walk.data
    assert retried(walk).state == ItemState.DONE
    file = walk.file()
    assert (file.state, len(file.derived)) == (FileState.LIGHTER, 2)
    assert len((walk.root / "a.jpg").read_bytes()) == file.size_now < len(walk.data)


def test_a_picture_that_the_site_deleted_in_a_run_has_not_failed(walk: Walk) -> None:
    walk.arrive()
    (walk.root / "a.jpg").unlink()
    item = walk.turn()
    assert (item.state, item.code) == (ItemState.PASSED, "gone")
    assert walk.box.asked == []
