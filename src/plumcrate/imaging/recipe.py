"""How a picture is to be treated: the level, the copies, the limits."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from enum import StrEnum
from typing import Any


class Level(StrEnum):
    """A promise about visible difference. See ``TARGETS`` for the score each lossy level aims at."""

    EXACT = "exact"
    GALLERY = "gallery"
    EVERYDAY = "everyday"
    LEAN = "lean"


#: SSIMULACRA2 points each lossy level aims at. The metric's author gives 90 as "cannot be told
#: apart when flicked between", 80 as "cannot be told apart side by side", and 70 as "hard to
#: notice without the original at hand".
TARGETS: dict[Level, float] = {Level.GALLERY: 90.0, Level.EVERYDAY: 80.0, Level.LEAN: 70.0}

#: How far below its target an accepted result may score.
TOLERANCE = 0.5


@dataclass(frozen=True, slots=True)
class Limits:
    """What a picture may cost before it is declined. ``pixels`` counts width times height."""

    pixels: int = 200_000_000


@dataclass(frozen=True, slots=True)
class Recipe:
    """Settings for one treatment.

    ``webp`` and ``avif`` ask for copies. ``avif_speed`` is the encoder's, 0 (slow) to 10.
    ``least_gain`` is the part of the file's size that a lossy replacement must save to be
    worth a change of pixels, 0 to 1; an exact one is taken for a single byte.
    """

    level: Level = Level.EVERYDAY
    webp: bool = True
    avif: bool = True
    avif_speed: int = 6
    least_gain: float = 0.02
    limits: Limits = field(default_factory=Limits)

    @property
    def target(self) -> float | None:
        """The score aimed at; None for exact."""
        return TARGETS.get(self.level)

    def as_dict(self) -> dict[str, Any]:
        """Plain data, for records; :meth:`from_dict` reads it back."""
        return asdict(self) | {"level": str(self.level)}

    @classmethod
    def from_dict(cls, values: dict[str, Any]) -> Recipe:
        """Raises ValueError for an unknown level, TypeError for an unknown setting."""
        values = dict(values)
        limits = Limits(**values.pop("limits", {}))
        return cls(level=Level(values.pop("level")), limits=limits, **values)
