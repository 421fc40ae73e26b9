"""Random schedules of changes, kills, moves, deletions, unmounts and strangers' writes.

Seeds are drawn by Hypothesis; ``script/bench schedules`` goes through many more.
"""

import logging

import pytest
import structlog
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from world import World

from plumcrate.records.database import Database


@pytest.fixture(autouse=True)
def _quiet() -> None:
    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.CRITICAL))
    yield
    structlog.reset_defaults()


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(st.integers(0, 10**9))
def test_no_schedule_loses_an_original(database: Database, seed: int) -> None:
    world = World(database, seed)
    try:
        world.go(12)
    finally:
        world.close()


#: Each of these found a fault once, when it was first gone through.
FOUND = (14, 36, 64, 96, 173, 194, 311, 476, 503, 512, 597, 691, 877, 944)
FOUND += (8611, 10055, 20532, 20578, 20861, 21368)


@pytest.mark.parametrize("seed", FOUND)
def test_schedules_that_found_something(database: Database, seed: int) -> None:
    world = World(database, seed)
    try:
        world.go(12)
    finally:
        world.close()
