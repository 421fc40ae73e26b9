"""What visitors have: screens, lines, processors.

A line is made in the tunnel through which everything goes (:mod:`.tunnel`): the time of a round trip, and
so many bytes a second each way, shared by all connections. There is no loss, and no slow start of TCP. A
processor is slowed by the browser itself.
"""

from __future__ import annotations

from dataclasses import dataclass

from plumcrate.contract.weighing import Device, Line, Processor


@dataclass(frozen=True, slots=True)
class Screen:
    """In CSS pixels; ``density`` is device pixels for one of them."""

    width: int
    height: int
    density: float
    mobile: bool


@dataclass(frozen=True, slots=True)
class Speed:
    """``round_trip`` in seconds; ``down`` and ``up`` in bytes a second, None for as fast as it goes."""

    round_trip: float
    down: float | None
    up: float | None


SCREENS = {
    Device.DESKTOP: Screen(1366, 768, 1.0, False),
    # A panel of 1,080 by 2,400 pixels at 480 dots an inch, as most phones of the middle range have: three
    # device pixels for one of CSS (Android's density bucket xxhdpi: 160 dots an inch are one).
    Device.PHONE: Screen(360, 800, 3.0, True),
}
OPEN = Speed(0.0, None, None)
LINES = {
    Line.OPEN: OPEN,
    Line.HOME: Speed(0.030, 20e6 / 8, 5e6 / 8),
    Line.MOBILE: Speed(0.120, 4e6 / 8, 1.5e6 / 8),
    Line.WEAK: Speed(0.300, 0.8e6 / 8, 0.3e6 / 8),
}
#: How many times slower than this machine's.
PROCESSORS = {Processor.QUICK: 1.0, Processor.MIDDLING: 2.0, Processor.SLOW: 4.0}
#: What a device has when nothing else is asked for.
USUAL = {Device.DESKTOP: (Line.HOME, Processor.QUICK), Device.PHONE: (Line.MOBILE, Processor.SLOW)}
