"""What can be won on a page, in plain words, the worst first. Pure: a reading and what is on record in.

Bytes that are won are those of the first time a visitor comes; an address that stands in several places is
fetched once and counted once.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from plumcrate.contract.weighing import PageFinding, PagePicture, Reading

from .profiles import SCREENS

#: More pixels than this many times those of its place are too many; less is no matter.
_TOO_MANY = 1.7
#: A place has a picture's proportions when they are so near.
_SAME_SHAPE = 0.03
#: Fewer bytes than this are not worth a word.
_LEAST = 2_048
#: What a second, or a jump of 1, is worth in bytes when findings are put in order; and a picture gone soft.
_BYTES_A_SECOND, _BYTES_FOR_SOFTNESS = 300_000, 20_000
#: So many screens below its top a picture is far below.
_FAR = 2.0
#: What is below this is seen to be soft.
_SOFT = 50.0
_MODERN = ("avif", "webp")
_RASTER = ("jpeg", "png", "gif", "bmp", "tiff")


@dataclass(frozen=True, slots=True)
class AvailableSize:
    """A file of the same picture and shape; ``lightest`` is the least that a modern browser fetches."""

    path: str
    width: int
    height: int
    lightest: int


@dataclass(frozen=True, slots=True)
class OnRecord:
    """The file behind a picture. ``lightest``: its lightest copy, format and bytes; ``foreign``: what was
    served are no bytes of ours; ``described``: we know what it says, in some language."""

    path: str
    picture_id: int
    bytes_now: int
    untreated: bool
    lightest: tuple[str, int] | None
    sizes: tuple[AvailableSize, ...] = ()
    foreign: bool = False
    described: bool = False


@dataclass(frozen=True, slots=True)
class FindingContext:
    """``records``: by a picture's number; ``begun``: when each address was first asked for, in seconds;
    ``varies``: what answers said that they depend on; ``expected``: what share of an untreated file's bytes
    treating is expected to leave."""

    records: Mapping[int, OnRecord]
    begun: Mapping[str, float]
    varies: Mapping[str, str]
    failed: Mapping[str, str]
    expected: float


def findings_of(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    """Everything, the worst first."""
    found: list[PageFinding] = []
    for group in _by_address(reading.pictures):
        found += _of_one(reading, group, ground)
    found += _old_formats(reading, ground) + _untreated(reading, ground)
    found += _lazy_largest(reading, ground)
    found += _late_largest(reading, ground)
    found += _eager(reading)
    found += _unstated(reading, ground)
    found += _several_sizes(reading, ground)
    found += _silent(reading, ground)
    return sorted(found, key=weight, reverse=True)


def weight(finding: PageFinding) -> float:
    """In bytes, what a finding is worth."""
    softness = _BYTES_FOR_SOFTNESS if finding.code == "soft" else 0
    return finding.bytes + softness + (finding.seconds + finding.jump) * _BYTES_A_SECOND


def _by_address(pictures: Sequence[PagePicture]) -> list[list[PagePicture]]:
    groups: dict[str, list[PagePicture]] = {}
    for picture in pictures:
        groups.setdefault(picture.address, []).append(picture)
    return list(groups.values())


def _say(
    reading: Reading, code: str, pictures: Sequence[PagePicture], text: str, action: str, **won: float
) -> PageFinding:
    return PageFinding(
        code=code,
        device=reading.device,
        pictures=[picture.number for picture in pictures],
        text=text,
        action=action,
        bytes=max(0, round(won.get("bytes", 0))),
        seconds=max(0.0, round(won.get("seconds", 0), 2)),
        jump=round(won.get("jump", 0), 3),
    )


def _of_one(reading: Reading, group: list[PagePicture], ground: FindingContext) -> list[PageFinding]:
    """Of one address, wherever it is shown."""
    first = group[0]
    if first.address in ground.failed:
        return [
            _say(
                reading,
                "broken",
                group,
                f"it did not come: {ground.failed[first.address]}",
                "Mend the address, or take the picture out of the page.",
            )
        ]
    record = ground.records.get(first.number)
    found = []
    if record is not None and record.foreign:
        found.append(
            _say(
                reading,
                "other-hand",
                group,
                "what the site sends are no bytes of ours: somebody else treats these files too, or a cache "
                "holds what was before",
                "Switch the other treatment off for this library, or clear the cache; two losses add up.",
            )
        )
    found += _too_large(reading, group, record)
    found += _soft(reading, group, record)
    return found


def _too_large(reading: Reading, group: list[PagePicture], record: OnRecord | None) -> list[PageFinding]:
    shown = [picture for picture in group if picture.needed_width and picture.natural_width]
    if not shown or shown[0].format in ("svg", "ico"):
        return []
    one = max(shown, key=lambda picture: picture.needed_width * picture.needed_height)
    if one.excess < _TOO_MANY:
        return []
    wide, tall = place_of(one)
    need = f"{wide:,} × {tall:,}"
    fitting = None
    if record is not None:
        larger = [
            size
            for size in record.sizes
            if _width_for(one, size) * 0.98 <= size.width < one.natural_width and size.path != record.path
        ]
        fitting = min(larger, key=lambda size: size.width, default=None)
    if fitting is not None:
        won = float(one.bytes - fitting.lightest)
        action = f"Let the page use {fitting.path} ({fitting.width:,} × {fitting.height:,}), which is there."
    else:
        won = one.bytes * (1 - 1 / one.excess) * 0.9
        action = f"Make a size of {need} for this place."
    if won < _LEAST:
        return []
    text = (
        f"it has {one.excess:.1f} times the pixels that its place shows: "
        f"{one.natural_width:,} × {one.natural_height:,} for {need}"
    )
    return [_say(reading, "too-large", group, text, action, bytes=won)]


def place_of(picture: PagePicture) -> tuple[int, int]:
    """Width and height, in pixels of the device, of what is seen of a picture: less than is drawn where
    its place has other proportions and cuts it."""
    wide, tall = picture.needed_width, picture.needed_height
    shape = picture.box.width / picture.box.height if picture.box.height > 0 else 0.0
    if shape <= 0 or not tall or abs(wide / tall / shape - 1) <= _SAME_SHAPE:
        return wide, tall
    width = min(float(wide), tall * shape)
    return round(width), round(width / shape)


def _width_for(picture: PagePicture, size: AvailableSize) -> float:
    """How wide a file of a size's proportions must be for a place."""
    return min(float(picture.needed_width), picture.needed_height * size.width / max(size.height, 1))


def _old_formats(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    """Copies that stand there and were not served, by why."""
    why: dict[tuple[str, str], list[tuple[PagePicture, int]]] = {}
    for group in _by_address(reading.pictures):
        one, record = group[0], ground.records.get(group[0].number)
        if record is None or record.lightest is None or one.format not in _RASTER:
            continue
        won = one.bytes - record.lightest[1]
        if won >= _LEAST:
            why.setdefault(_why_old(one, ground.varies.get(one.address, "")), []).append((one, won))
    found = []
    for (reason, action), rows in why.items():
        text = (
            f"{_count(len(rows))} received in an older format by a browser that shows newer ones, though "
            f"lighter copies stand there: {reason}"
        )
        won = sum(size for _, size in rows)
        found.append(_say(reading, "not-served", [one for one, _ in rows], text, action, bytes=won))
    return found


def _untreated(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    new = [
        group[0]
        for group in _by_address(reading.pictures)
        if (record := ground.records.get(group[0].number)) is not None
        and record.untreated
        and record.lightest is None
        and group[0].format in _RASTER
    ]
    won = sum(one.bytes for one in new) * (1 - ground.expected)
    if won < _LEAST:
        return []
    return [
        _say(
            reading,
            "untreated",
            new,
            f"{_count(len(new))} not treated yet; about so much is won where others were like them",
            "Treat what this page shows. “What if” shows the very bytes before.",
            bytes=won,
        )
    ]


def _count(number: int) -> str:
    return "1 picture was" if number == 1 else f"{number:,} pictures were"


def _why_old(one: PagePicture, varies: str) -> tuple[str, str]:
    if one.how == "picture":
        return (
            "the page's own <picture> does not name it",
            "Let pages be rewritten (Serve, Pages), or name the copies in the page.",
        )
    if one.how == "background":
        return (
            "a style names the file itself",
            "Let the site's server negotiate (Serve, Ways), or write image-set() in the style.",
        )
    if "accept" in varies.lower():
        return (
            "the server negotiates, and chose the file",
            "Ask as each browser does (Serve, Ways): a rule or a cache is in the way.",
        )
    return (
        "the page names the file itself, and the server does not negotiate",
        "Let pages be rewritten (Serve, Pages), or the server negotiate (Serve, Ways).",
    )


def _soft(reading: Reading, group: list[PagePicture], record: OnRecord | None) -> list[PageFinding]:
    judged = [picture for picture in group if picture.seen is not None]
    worst = min(judged, key=lambda picture: picture.seen.score if picture.seen else 0.0, default=None)
    if worst is None or worst.seen is None or worst.seen.score >= _SOFT:
        return []
    small = worst.natural_width < 0.8 * worst.needed_width
    why = (
        f"it is drawn {worst.needed_width / worst.natural_width:.1f} times larger than its file"
        if small and worst.natural_width
        else "what is served has lost too much"
    )
    action = (
        f"Let the page use a size of {worst.needed_width:,} × {worst.needed_height:,}."
        if small
        else "Look at it under Review; give it a level of its own, or put it back."
    )
    text = f"it looks soft in its place (score {worst.seen.score:.0f} against its original): {why}"
    return [_say(reading, "soft", [worst], text, action)]


def _lazy_largest(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    found = []
    for picture in reading.pictures:
        if picture.largest_paint and picture.lazy:
            late = ground.begun.get(picture.address.partition("#")[0], 0.0) - _document(reading)
            found.append(
                _say(
                    reading,
                    "lazy-largest",
                    [picture],
                    "it is the largest thing that visitors wait for, and the page loads it late",
                    'Take loading="lazy" away from it; say fetchpriority="high".',
                    seconds=max(0.1, late),
                )
            )
    return found


def _late_largest(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    found = []
    for picture in reading.pictures:
        late = ground.begun.get(picture.address.partition("#")[0], 0.0) - _document(reading)
        if picture.largest_paint and not picture.lazy and not picture.preloaded and late > 0.4:
            found.append(
                _say(
                    reading,
                    "late-largest",
                    [picture],
                    "it is the largest thing that visitors wait for, and the browser heard of it "
                    f"{late:.1f} s after the page",
                    "Name it in the page itself, or preload it.",
                    seconds=late,
                )
            )
    return found[:1]


def _document(reading: Reading) -> float:
    """When the page itself had begun to come."""
    return reading.ttfb.median if reading.ttfb is not None else 0.0


def _eager(reading: Reading) -> list[PageFinding]:
    far = SCREENS[reading.device].height * _FAR
    late = [
        group[0]
        for group in _by_address(reading.pictures)
        if all(
            picture.box.top > far
            and picture.how in ("img", "picture")
            and not picture.lazy
            and picture.needed_width
            for picture in group
        )
    ]
    late_bytes = sum(picture.bytes for picture in late)
    if late_bytes < _LEAST:
        return []
    word = "picture is" if len(late) == 1 else "pictures are"
    return [
        _say(
            reading,
            "eager-below",
            late,
            f"{len(late):,} {word} loaded at once, though far below what visitors see first",
            'Say loading="lazy" for them, or let pages be rewritten (Serve, Pages).',
            bytes=late_bytes,
        )
    ]


def _unstated(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    loose = [
        picture
        for picture in reading.pictures
        if picture.how in ("img", "picture")
        and not picture.stated
        and picture.needed_width
        and picture.address not in ground.failed
    ]
    if not loose:
        return []
    shift = reading.cls.median if reading.cls is not None else 0.0
    jumps = f"; the page jumps by {shift:.2f}" if shift >= 0.01 else ""
    return [
        _say(
            reading,
            "no-size",
            loose,
            f"the page does not state the size of {len(loose):,} of its pictures, so what is below may jump"
            + jumps,
            "State width and height, or let pages be rewritten (Serve, Pages).",
            jump=shift,
        )
    ]


def _several_sizes(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    by_picture: dict[int, dict[str, PagePicture]] = {}
    for picture in reading.pictures:
        record = ground.records.get(picture.number)
        if record is not None:
            by_picture.setdefault(record.picture_id, {}).setdefault(picture.address, picture)
    found = []
    for several in by_picture.values():
        if len(several) < 2:
            continue
        rows = sorted(several.values(), key=lambda picture: -picture.natural_width)
        won = sum(picture.bytes for picture in rows[1:])
        if won >= _LEAST:
            found.append(
                _say(
                    reading,
                    "several-sizes",
                    rows,
                    f"the same picture is fetched in {len(rows)} sizes",
                    "Let these places share one size, where they are near each other.",
                    bytes=won,
                )
            )
    return found


def _silent(reading: Reading, ground: FindingContext) -> list[PageFinding]:
    """Pictures of which the page says nothing to those who do not see them (WCAG 2.2, 1.1.1)."""
    silent = [one for one in reading.pictures if one.said is not None and one.said.alternative is None]
    if not silent:
        return []
    known = sum((record := ground.records.get(one.number)) is not None and record.described for one in silent)
    text = f"{len(silent):,} of its pictures have no alternative text"
    action = "Write an alt attribute for each; an empty one says that a picture is decorative."
    if known:
        text += f"; {known:,} of them are described here"
        action = (
            "Let pages be rewritten (Serve, Pages), which writes what is described here; describe the rest."
        )
    return [_say(reading, "no-text", silent, text, action)]
