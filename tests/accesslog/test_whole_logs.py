"""Logs as files: packed, rotated, broken off, growing; counted by stretches that join."""

from __future__ import annotations

import gzip
import tracemalloc
from collections import Counter
from datetime import date
from itertools import islice
from pathlib import Path

import pytest

from plumcrate.accesslog import batches as log_batches
from plumcrate.accesslog.batches import LogBatch, batches, chunks_of, follow, number_of, opened

AGENT = b"Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"


def line(
    path: str, size: int = 100, day: str = "03/Oct/2026", agent: bytes = AGENT, status: int = 200
) -> bytes:
    head = f'192.0.2.7 - - [03/Oct/2026:08:12:33 +0000] "GET {path} HTTP/1.1" {status} {size} "-" "'.encode()
    return head + agent + b'"\n'


def counted(place: Path, begin: int = 0, prefix: bytes = b"/media/") -> list[LogBatch]:
    with opened(place) as file:
        return list(batches(chunks_of(file, begin), begin, prefix))


def requests(found: list[LogBatch]) -> dict[tuple[str, int | None, bool], int]:
    sums: Counter[tuple[str, int | None, bool]] = Counter()
    for batch in found:
        for (_, path, size, bot), (number, _) in batch.counts.items():
            sums[path.decode(), size, bot] += number
    return dict(sums)


@pytest.fixture
def place(tmp_path: Path) -> Path:
    found = tmp_path / "access.log"
    found.write_bytes(
        line("/media/a.jpg") * 3
        + line("/media/a.jpg", 60)
        + line("/media/b%20c.png", 7, agent=b"ExampleBot/1.0")
        + line("/media/a.jpg", 50, status=206)
        + line("/media/a.jpg", 20, status=206)
        + line("/other/a.jpg")
        + line("/media/")
        + b"something else entirely\n"
        + b"x" * 1_000_000
        + b"\n"
    )
    return found


def test_what_was_sent_is_counted_by_day_path_and_size(place: Path) -> None:
    (batch,) = counted(place)
    assert requests([batch]) == {
        ("a.jpg", 100, False): 3,
        ("a.jpg", 60, False): 1,
        ("b c.png", 7, True): 1,
        ("a.jpg", None, False): 2,
    }
    assert batch.counts[date(2026, 10, 3), b"a.jpg", None, False] == [2, 70]
    assert (batch.begin, batch.end) == (0, place.stat().st_size)
    assert (batch.lines, batch.foreign) == (11, 1)


def test_a_packed_log_says_the_same_and_has_the_same_number(place: Path) -> None:
    packed = place.with_name("access.log.2.gz")
    packed.write_bytes(gzip.compress(place.read_bytes()))
    assert requests(counted(packed)) == requests(counted(place))
    assert number_of(packed) == number_of(place)
    rotated = place.rename(place.with_name("access.log.1"))
    assert number_of(rotated) == number_of(packed)


def test_stretches_join(place: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    whole = requests(counted(place))
    monkeypatch.setattr(log_batches, "_MOST_COUNTS", 2)
    parts = counted(place)
    assert len(parts) > 1
    assert [batch.begin for batch in parts] == [0, *(batch.end for batch in parts[:-1])]
    assert requests(parts) == whole
    rest = counted(place, parts[0].end)
    assert requests([parts[0], *rest]) == whole


def test_a_line_that_has_not_ended_is_left_for_the_next_time(place: Path) -> None:
    before = place.stat().st_size
    begun = line("/media/late.jpg")
    place.write_bytes(place.read_bytes() + begun[:40])
    assert counted(place)[-1].end == before
    place.write_bytes(place.read_bytes() + begun[40:])
    assert requests(counted(place, before)) == {("late.jpg", 100, False): 1}


def test_a_packed_log_that_is_broken_off_counts_as_far_as_it_goes(tmp_path: Path) -> None:
    packed = tmp_path / "access.log.1.gz"
    data = gzip.compress(b"".join(line(f"/media/{number}.jpg") for number in range(5_000)))
    packed.write_bytes(data[: len(data) // 2])
    found = counted(packed)
    assert 100 < sum(batch.lines for batch in found) < 5_000


def test_an_empty_log_has_no_number(tmp_path: Path) -> None:
    place = tmp_path / "access.log"
    place.write_bytes(b"")
    assert number_of(place) is None
    place.write_bytes(b"no end yet")
    assert number_of(place) is None


def test_a_site_at_the_top_of_its_host(place: Path) -> None:
    assert ("other/a.jpg", 100, False) in requests(counted(place, prefix=b"/"))


def test_a_growing_log_is_followed_until_another_takes_its_place(tmp_path: Path) -> None:
    place = tmp_path / "access.log"
    place.write_bytes(line("/media/1.jpg"))
    slept = []

    def pause(seconds: float) -> None:
        slept.append(seconds)
        if len(slept) == 1:
            with place.open("ab") as log:
                log.write(line("/media/2.jpg"))
        else:
            place.rename(place.with_name("access.log.1"))
            with place.with_name("access.log.1").open("ab") as log:
                log.write(line("/media/3.jpg"))
            place.write_bytes(line("/media/4.jpg"))

    pieces = list(islice(follow(place, 0, pause), 20))
    assert b"".join(pieces) == b"".join(line(f"/media/{number}.jpg") for number in (1, 2, 3))
    assert b"" in pieces, "it says when nothing more is there just now"


def test_a_log_that_is_cut_short_is_begun_anew(tmp_path: Path) -> None:
    place = tmp_path / "access.log"
    place.write_bytes(line("/media/1.jpg") * 10)
    pieces = list(islice(follow(place, 0, lambda _: place.write_bytes(b"")), 20))
    assert b"".join(pieces) == line("/media/1.jpg") * 10


def test_memory_stays_small_whatever_the_log(tmp_path: Path) -> None:
    place = tmp_path / "access.log"
    with place.open("wb") as log:
        for number in range(40):
            log.write(
                b"".join(line(f"/media/{number}-{each}.jpg") for each in range(1_000))
                + b"y" * 500_000
                + b"\n"
            )
    tracemalloc.start()
    with opened(place) as file:
        lines = sum(batch.lines for batch in batches(chunks_of(file, 0), 0, b"/media/"))
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert lines == 40_040
    assert peak < 30_000_000
