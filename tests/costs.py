"""What each test costs: processor seconds of the test process and of all that it started.

At the end the suite names the twenty dearest tests and what each phase took. A test that costs more than
``processor_seconds`` in ``pyproject.toml`` fails: what is dear is shared by a fixture, or left out. Fixtures
of a module or of the session are counted apart, since whichever test comes first would pay for them."""

from __future__ import annotations

import json
import os
import resource
import time
from collections import defaultdict
from collections.abc import Generator, Iterator
from pathlib import Path
from typing import Any

import pytest

_TICK = os.sysconf("SC_CLK_TCK")
_SHOWN = 20
#: Process numbers of servers that left our tree of processes (PostgreSQL's postmaster).
DETACHED: set[int] = set()


def _of_process(pid: int) -> float:
    """User and system seconds of a living process and of its children that have ended."""
    try:
        stat = Path(f"/proc/{pid}/stat").read_bytes()
    except OSError:
        return 0.0
    fields = stat.rpartition(b")")[2].split()
    return sum(map(int, fields[11:15])) / _TICK


def _children(pid: int) -> Iterator[int]:
    try:
        for thread in os.listdir(f"/proc/{pid}/task"):
            yield from map(int, Path(f"/proc/{pid}/task/{thread}/children").read_bytes().split())
    except (OSError, ValueError):
        return


def spent() -> float:
    """Processor seconds so far of this process, its descendants, and the servers in ``DETACHED``."""
    ended = resource.getrusage(resource.RUSAGE_CHILDREN)
    total = time.process_time() + ended.ru_utime + ended.ru_stime
    below = [*_children(os.getpid()), *DETACHED]
    while below:
        pid = below.pop()
        total += _of_process(pid)
        below.extend(_children(pid))
    return total


class Costs:
    """Measures where tests run, and adds up where reports arrive; without workers both are one process."""

    def __init__(self, bound: float) -> None:
        self.bound = bound
        self._before = self._shared = self._setup = 0.0
        self._open: list[float] = []
        self._fixtures: dict[str, float] = defaultdict(float)
        self.tests: dict[str, dict[str, tuple[float, float]]] = defaultdict(dict)
        self.fixtures: dict[str, float] = defaultdict(float)

    @pytest.hookimpl(wrapper=True, tryfirst=True)
    def pytest_runtest_protocol(self) -> Generator[None, Any, Any]:
        self._before, self._shared = spent(), 0.0
        return (yield)

    @pytest.hookimpl(wrapper=True)
    def pytest_fixture_setup(self, fixturedef: Any) -> Generator[None, Any, Any]:
        if fixturedef.scope == "function":
            return (yield)
        self._open.append(0.0)
        began = spent()
        try:
            return (yield)
        finally:
            whole = spent() - began
            self._fixtures[fixturedef.argname] += whole - self._open.pop()
            if self._open:
                self._open[-1] += whole
            else:
                self._shared += whole

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_makereport(self, item: pytest.Item, call: Any) -> Generator[None, Any, Any]:
        report = yield
        now = spent()
        cost = max(0.0, now - self._before - self._shared)
        self._before, self._shared = now, 0.0
        report.cost, report.fixture_costs = cost, dict(self._fixtures)
        self._fixtures.clear()
        if call.when == "setup":
            self._setup = cost
        elif call.when == "call" and report.passed:
            bound = 0 if item.get_closest_marker("slow") else self.bound
            if bound and self._setup + cost > bound:
                report.outcome = "failed"
                report.longrepr = (
                    f"took {self._setup + cost:.1f} processor seconds; a test may take {bound:g}. "
                    "Share what it sets up, make it smaller, or mark it slow."
                )
        return report

    def pytest_runtest_logreport(self, report: Any) -> None:
        if hasattr(report, "cost"):
            self.tests[report.nodeid][report.when] = (report.cost, report.duration)
            for name, seconds in report.fixture_costs.items():
                self.fixtures[name] += seconds

    def pytest_terminal_summary(self, terminalreporter: Any) -> None:
        if not self.tests or not terminalreporter.config.getoption("costs"):
            return
        write = terminalreporter.write_line
        terminalreporter.section("where the time went: processor seconds, seconds waited")
        for phase in ("setup", "call", "teardown"):
            both = [phases[phase] for phases in self.tests.values() if phase in phases]
            write(f"{sum(cost for cost, _ in both):8.1f} {sum(took for _, took in both):8.1f}  {phase}")
        shared = sorted(self.fixtures.items(), key=lambda pair: -pair[1])[:5]
        write(
            f"{sum(self.fixtures.values()):8.1f}           shared fixtures: "
            + ", ".join(f"{name} {seconds:.1f}" for name, seconds in shared)
        )
        whole = {
            name: (sum(cost for cost, _ in phases.values()), sum(took for _, took in phases.values()))
            for name, phases in self.tests.items()
        }
        for name, (cost, took) in sorted(whole.items(), key=lambda pair: -max(pair[1]))[:_SHOWN]:
            write(f"{cost:8.1f} {took:8.1f}  {name}")
        if place := terminalreporter.config.getoption("costs_to"):
            Path(place).write_text(json.dumps({"tests": self.tests, "fixtures": self.fixtures}, indent=0))
