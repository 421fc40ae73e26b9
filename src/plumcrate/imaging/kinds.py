"""What metadata a treated file keeps: kinds an administrator understands, not tags.

The colour profile, the orientation and whatever else changes looks are not metadata in this sense:
they always stay. Embedded thumbnails never do.
"""

from __future__ import annotations

from enum import StrEnum


class Kind(StrEnum):
    """One kind of metadata."""

    RIGHTS = "rights"  # who made it, who may use it: creator, credit, copyright, licence
    TIME = "time"  # when it was taken
    PLACE = "place"  # where: coordinates, country, city
    CAMERA = "camera"  # with what and how: maker, model, lens, exposure
    REST = "rest"  # everything else: titles, descriptions, keywords, editing history, comments


Keep = frozenset[Kind]
EVERYTHING: Keep = frozenset(Kind)
#: What must stay wherever somebody else made the picture, and tells nothing of anybody's whereabouts.
RIGHTS_ONLY: Keep = frozenset({Kind.RIGHTS})
NOTHING: Keep = frozenset()
