"""A lane begins work again as soon as the database is back, whatever is in hand."""

import asyncio
import threading
from collections.abc import Callable
from pathlib import Path

from plumcrate.queue.tasks import DEFAULT, TREAT_PICTURE, Queue
from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres
from plumcrate.worker.lanes import Lane, Rescue


async def until(condition: Callable[[], bool], seconds: float = 120) -> None:
    async with asyncio.timeout(seconds):
        while not condition():
            await asyncio.sleep(0.05)


def test_work_begins_again_while_what_was_in_hand_goes_on(tmp_path: Path) -> None:
    server = PrivatePostgres(tmp_path / "server", fast=True, elsewhere=True)
    url = server.start()
    database = Database(url)
    database.migrate()
    held, begun = threading.Event(), []

    def treat(run_id: int, picture_id: int) -> None:
        begun.append(picture_id)
        if picture_id == 1:
            held.wait(300)

    def ask(picture: int) -> None:
        with database.begin() as session:
            Queue(url).add(session, TREAT_PICTURE, [{"run_id": 1, "picture_id": picture}], 0)

    async def go() -> list[int]:
        lane = Lane(url, DEFAULT, 2, {TREAT_PICTURE: treat}, silent_after=600)
        keeping = asyncio.create_task(lane.keep())
        rescue = asyncio.create_task(Rescue(url, 600).keep(0.5))
        try:
            await asyncio.to_thread(ask, 1)
            await until(lambda: 1 in begun)
            await asyncio.to_thread(server.stop, dead=True)
            await until(lambda: bool(lane._ending))
            await asyncio.to_thread(server.start)
            await asyncio.to_thread(ask, 2)
            await until(lambda: 2 in begun)
            assert not held.is_set(), "the first is still in hand"
            # The first may have been put in line again: its worker is gone, and it goes on in its thread.
            return begun
        finally:
            held.set()
            for task in (keeping, rescue):
                task.cancel()
            await asyncio.gather(keeping, rescue, return_exceptions=True)

    try:
        begun_in_all = asyncio.run(go())
        assert begun_in_all[0] == 1
        assert set(begun_in_all) == {1, 2}
    finally:
        database.close()
        server.remove()
