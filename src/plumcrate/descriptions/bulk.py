"""One change to many descriptions: shown before, done as a whole, undone as a whole."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.descriptions import (
    Accepting,
    BulkDeed,
    BulkRequest,
    BulkResult,
    Filling,
    Marking,
    Replacing,
    TextField,
    Texts,
)
from plumcrate.records.queries.descriptions import all_ids
from plumcrate.records.tables import Library, Picture
from plumcrate.refusal import Refusal

from .changing import NewTexts, begin_change, differences, end_change, tidied, write
from .known import KnownPicture, known_pictures
from .suggesting import from_name
from .terms import terms_of

_BATCH, _EXAMPLES = 500, 40
_PLACE = re.compile(r"\{([^{}]*)\}")
_PLACES = ("title", "caption", "credit", "place", "name", "folder", "n")


def change_many(session: Session, library: Library, request: BulkRequest, by: str) -> BulkResult:
    """Does it, or tells what it would do. Raises :class:`Refusal` for a pattern that cannot be filled in."""
    if isinstance(request.deed, Filling):
        _check_pattern(request.deed.pattern)
    ids = _asked(session, library, request)
    result = BulkResult(changed=0, unchanged=0, examples=[])
    change = (
        None
        if request.preview
        else begin_change(session, library, request.language, _named(request.deed), by)
    )
    terms = terms_of(session, library.id)
    number = 0
    for start in range(0, len(ids), _BATCH):
        batch = ids[start : start + _BATCH]
        if change is not None:
            session.execute(
                select(Picture.id).where(Picture.id.in_(batch)).order_by(Picture.id).with_for_update()
            )
        new = []
        for known in known_pictures(session, request.language, batch):
            number += 1
            after = _after(request.deed, known, number)
            if after is None or after == known.texts:
                result.unchanged += 1
            else:
                new.append(NewTexts(known.picture.id, known.picture.path, known.texts, after))
        result.changed += len(new)
        for one in new[: _EXAMPLES - len(result.examples)]:
            result.examples += differences(one)
        if change is not None:
            write(session, library, request.language, new, change, terms)
        session.expire_all()
    if change is not None:
        result.change = change.id if result.changed else None
        end_change(session, library, change)
    return result


def _asked(session: Session, library: Library, request: BulkRequest) -> list[int]:
    if request.which is not None:
        return all_ids(session, library.id, request.language, request.which)
    wanted = select(Picture.id).where(
        Picture.library_id == library.id, Picture.id.in_(request.pictures or [])
    )
    return list(session.scalars(wanted.order_by(Picture.path)))


def _named(deed: BulkDeed) -> str:
    """What a change is called in the list of changes."""
    match deed:
        case Accepting():
            return f"took suggestions for {deed.field}"
        case Replacing():
            return f"replaced “{deed.find[:60]}” in {deed.field}"
        case Filling():
            return f"filled in “{deed.pattern[:60]}” as {deed.field}"
        case Marking():
            return "said that they are decorative" if deed.decorative else "said that they are not decorative"


def _after(deed: BulkDeed, known: KnownPicture, number: int) -> Texts | None:
    """The texts after a deed; None where it does not apply."""
    before = known.texts
    if isinstance(deed, Marking):
        if not deed.decorative:
            return before.model_copy(update={"decorative": False})
        return before.model_copy(update={"decorative": True, "alternative": ""})
    former = getattr(before, deed.field)
    if isinstance(deed, Replacing):
        text = replaced(former, deed)
    elif (deed.only_empty and former) or (deed.field is TextField.ALTERNATIVE and before.decorative):
        return None
    else:
        text = _accepted(deed, known) if isinstance(deed, Accepting) else _filled(deed, known, number)
    if not text and former and not isinstance(deed, Replacing):
        return None
    try:
        return tidied(Texts.model_validate(before.model_dump() | {deed.field: text}))
    except ValidationError:
        return None  # longer than a text may be


def _accepted(deed: Accepting, known: KnownPicture) -> str:
    mine = {one.source: one.text for one in reversed(known.suggestions) if one.field == deed.field}
    return next((mine[source] for source in deed.sources if source in mine), "")


def _check_pattern(pattern: str) -> None:
    unknown = [name for name in _PLACE.findall(pattern) if name not in _PLACES]
    if unknown:
        known = ", ".join(f"{{{name}}}" for name in _PLACES)
        raise Refusal("invalid-request", f"there is no {{{unknown[0][:60]}}} to fill in; there are {known}")


def _filled(deed: Filling, known: KnownPicture, number: int) -> str:
    """The pattern with its places filled in; nothing where one of them is not known."""
    picture, texts = known.picture, known.texts
    name = from_name(picture.path)
    values: dict[str, Callable[[], str]] = {
        "title": lambda: texts.title,
        "caption": lambda: texts.caption,
        "credit": lambda: texts.credit,
        "place": lambda: known.place,
        "name": lambda: name[0].text if name else "",
        "folder": lambda: picture.folder.rpartition("/")[2],
        "n": lambda: str(number),
    }
    found = {place: values[place]() for place in set(_PLACE.findall(deed.pattern))}
    if not all(found.values()):
        return ""
    return _PLACE.sub(lambda match: found[match.group(1)], deed.pattern)


def replaced(text: str, deed: Replacing) -> str:
    """A text with every place of what is sought replaced, from the left."""
    sought, within = deed.find, text
    if not deed.match_case:
        sought, within = _small(sought), _small(text)
    out, at = [], 0
    for start in _places(within, sought, whole_words=deed.whole_words):
        out += [text[at:start], deed.replacement]
        at = start + len(sought)
    return "".join([*out, text[at:]])


def _places(text: str, sought: str, *, whole_words: bool) -> Iterator[int]:
    at = text.find(sought)
    while at >= 0:
        end = at + len(sought)
        if not whole_words or not (text[at - 1 : at].isalnum() or text[end : end + 1].isalnum()):
            yield at
            at = text.find(sought, end)
        else:
            at = text.find(sought, at + 1)


def _small(text: str) -> str:
    """In small letters, as long as before."""
    return "".join(small if len(small := letter.lower()) == 1 else letter for letter in text)
