"""Groups of near duplicates: what pairs join to, without those that a person keeps apart."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

from sqlalchemy import or_, select, true, update
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.records.tables import NearDuplicatePair, Picture, VisualHash
from plumcrate.refusal import Refusal

if TYPE_CHECKING:
    from plumcrate.imaging.near_duplicates.perceptual import PerceptualHash

#: How a picture with the same bytes as the largest shows what that does.
_AS_IT_IS = {"scale": 1.0, "turn": 0.0, "of_first": 1.0, "alike": 1.0}


def keep_apart(session: Session, library_id: int, picture_id: int, apart: bool) -> None:
    """Takes a picture out of its group, or lets it be grouped again; its group alone is made anew."""
    row = session.get(VisualHash, picture_id, with_for_update=True)
    if row is None:
        raise Refusal("not-looked-at", "the picture was not looked at yet: look for near duplicates first")
    row.apart = apart
    session.flush()
    pair = NearDuplicatePair
    others = session.execute(
        select(pair.first_id, pair.second_id).where(
            or_(pair.first_id == picture_id, pair.second_id == picture_id)
        )
    )
    near = {picture_id} | {number for both in others for number in both}
    groups = select(VisualHash.group_id).where(VisualHash.picture_id.in_(near))
    around = near | set(session.scalars(select(VisualHash.picture_id).where(VisualHash.group_id.in_(groups))))
    facts = facts_of(session, library_id, around)
    let_go(session, list(around))
    for members in joined(pairs_of(session, library_id, facts, among=facts)):
        group(session, members, facts)


@dataclass(frozen=True, slots=True)
class Fact:
    """What groups are made by: pixels, content, and the group as it stands."""

    pixels: int
    content: bytes
    group: int | None


def facts_of(session: Session, library_id: int, among: Collection[int] | None = None) -> dict[int, Fact]:
    """Of the pictures that may be in groups, or of those among some."""
    asked = VisualHash.picture_id.in_(among) if among is not None else true()
    rows = session.execute(
        select(
            VisualHash.picture_id,
            VisualHash.width * VisualHash.height,
            VisualHash.content,
            VisualHash.group_id,
        )
        .join(Picture, VisualHash.picture_id == Picture.id)
        .where(VisualHash.library_id == library_id, Picture.state != FileState.GONE, ~VisualHash.apart, asked)
    )
    return {number: Fact(pixels, content, group) for number, pixels, content, group in rows}


def pairs_of(
    session: Session, library_id: int, facts: Collection[int], *, among: Collection[int] | None = None
) -> list[tuple[int, int]]:
    """Pairs of pictures that may be in groups; of all, or of those among some."""
    pair = NearDuplicatePair
    asked = pair.first_id.in_(among) if among is not None else true()
    rows = session.execute(select(pair.first_id, pair.second_id).where(pair.library_id == library_id, asked))
    return [(first, second) for first, second in rows if first in facts and second in facts]


def let_go(session: Session, numbers: list[int]) -> None:
    session.execute(
        update(VisualHash).where(VisualHash.picture_id.in_(numbers)).values(group_id=None, match=None)
    )


def group(session: Session, members: list[int], facts: Mapping[int, Fact]) -> None:
    """Puts pictures into one group, and says how each shows what the largest does."""
    # numpy, which the service needs for nothing else
    from plumcrate.imaging.near_duplicates.matching import matched

    largest = max(members, key=lambda number: (facts[number].pixels, -number))
    hashes = hashes_of(session, members)
    rows: list[dict[str, Any]] = []
    for number in members:
        match: dict[str, Any] | None = None
        if number != largest and number in hashes and largest in hashes:
            shows = matched(hashes[largest], hashes[number])
            identical = facts[number].content == facts[largest].content
            if shows is not None or identical:
                match = {**_AS_IT_IS, **(asdict(shows) if shows else {}), "identical": identical}
        rows.append({"picture_id": number, "group_id": min(members), "match": match})
    session.execute(update(VisualHash), rows)


def joined(pairs: Iterable[tuple[int, int]]) -> list[list[int]]:
    """The sets that pairs join to, each in order."""
    leader: dict[int, int] = {}

    def lead(number: int) -> int:
        leader.setdefault(number, number)
        while leader[number] != number:
            leader[number] = leader[leader[number]]
            number = leader[number]
        return number

    for first, second in pairs:
        one, other = lead(first), lead(second)
        leader[max(one, other)] = min(one, other)
    groups: dict[int, list[int]] = defaultdict(list)
    for number in sorted(leader):
        groups[lead(number)].append(number)
    return list(groups.values())


def hashes_of(session: Session, numbers: Iterable[int]) -> dict[int, PerceptualHash]:
    from plumcrate.imaging.near_duplicates.perceptual import PerceptualHash

    rows = session.execute(
        select(VisualHash.picture_id, VisualHash.width, VisualHash.height, VisualHash.hash).where(
            VisualHash.picture_id.in_(list(numbers))
        )
    )
    return {number: PerceptualHash.of_bytes(width, height, data) for number, width, height, data in rows}
