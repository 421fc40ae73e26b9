"""Changing descriptions: one, or many as one change that can be undone. Nobody's words are lost unseen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.descriptions import ChangedText, DescriptionSettings, TextField, Texts, Undone
from plumcrate.contract.webhooks import EventType
from plumcrate.records.database import notify
from plumcrate.records.tables import ChangedDescription, Description, DescriptionChange, Library, Picture
from plumcrate.refusal import Refusal
from plumcrate.webhooks.outgoing import notify_webhooks

from .known import texts_of
from .listing import settings_of
from .rules import Terms, faults_of, fold_of
from .terms import terms_in, terms_of

#: Saved again by the same person within so many minutes, a text is one change.
_ONE_SITTING = 10
#: So many pictures' texts in one message to the site; so many changes are kept.
_A_MESSAGE, _KEPT = 50, 1_000
#: So many descriptions are in memory at a time.
_AT_ONCE = 1_000
EDITED = "edited"


@dataclass(frozen=True, slots=True)
class NewTexts:
    """What a picture is to say."""

    picture_id: int
    path: str
    before: Texts
    after: Texts


def tidied(texts: Texts) -> Texts:
    """Without space around, and on one line but for the caption."""
    return texts.model_copy(
        update={
            "alternative": " ".join(texts.alternative.split()),
            "title": " ".join(texts.title.split()),
            "credit": " ".join(texts.credit.split()),
            "caption": texts.caption.strip(),
        }
    )


def save(
    session: Session,
    library: Library,
    picture: Picture,
    language: str,
    texts: Texts,
    by: str,
    *,
    based_on: int | None = None,
) -> bool:
    """Says something of one picture; whether it differs from what was said. ``based_on``: the version that
    was changed, 0 for none. Raises :class:`Refusal` ``changed-meanwhile``."""
    session.execute(select(Picture.id).where(Picture.id == picture.id).with_for_update())
    row = session.get(Description, (picture.id, language), populate_existing=True)
    before, after = texts_of(row), tidied(texts)
    if before == after:
        return False
    version = row.version if row is not None else 0
    if based_on not in (None, version):
        raise Refusal(
            "changed-meanwhile",
            f"{(row and row.by) or 'somebody'} changed the description of {picture.path} meanwhile. "
            "Nothing of yours was saved: look at theirs, then save yours again",
        )
    change = _sitting(session, library, picture.id, language, by)
    if change is None:
        change = begin_change(session, library, language, EDITED, by)
    terms = terms_in(session, library.id, after.alternative)
    write(session, library, language, [NewTexts(picture.id, picture.path, before, after)], change, terms)
    notify(session, description=picture.id)
    return True


def _sitting(
    session: Session, library: Library, picture_id: int, language: str, by: str
) -> DescriptionChange | None:
    """This person's latest change, where it was of this one picture and not long ago."""
    latest = session.scalar(
        select(DescriptionChange)
        .join(ChangedDescription, ChangedDescription.change_id == DescriptionChange.id)
        .where(ChangedDescription.picture_id == picture_id, DescriptionChange.language == language)
        .order_by(DescriptionChange.id.desc())
        .limit(1)
    )
    if latest is None or (latest.what, latest.by, latest.undone_at) != (EDITED, by, None):
        return None
    recent = DescriptionChange.at > func.now() - timedelta(minutes=_ONE_SITTING)
    return session.scalar(select(DescriptionChange).where(DescriptionChange.id == latest.id, recent))


def begin_change(session: Session, library: Library, language: str, what: str, by: str) -> DescriptionChange:
    change = DescriptionChange(library_id=library.id, language=language, what=what, by=by)
    session.add(change)
    session.flush()
    return change


def end_change(session: Session, library: Library, change: DescriptionChange) -> None:
    """Counts what a change of many did, tells those who look on, and forgets what is long past."""
    rows = select(func.count()).where(ChangedDescription.change_id == change.id)
    change.pictures = session.scalar(rows) or 0
    if not change.pictures:
        session.delete(change)
    else:
        notify(session, descriptions=library.id)
    old = (
        select(DescriptionChange.id)
        .where(DescriptionChange.library_id == library.id)
        .order_by(DescriptionChange.id.desc())
        .offset(_KEPT)
    )
    session.execute(delete(DescriptionChange).where(DescriptionChange.id.in_(old)))


def write(
    session: Session,
    library: Library,
    language: str,
    new: Sequence[NewTexts],
    change: DescriptionChange,
    terms: Terms,
) -> None:
    """Writes texts, notes them as part of a change, and tells the site."""
    if not new:
        return
    settings = settings_of(library)
    rows = [_row(library.id, language, one, change.by, settings, terms) for one in new]
    upsert = insert(Description)
    kept = ("picture_id", "language", "library_id")
    session.execute(
        upsert.on_conflict_do_update(
            index_elements=["picture_id", "language"],
            set_={name: upsert.excluded[name] for name in rows[0] if name not in kept}
            | {"version": Description.version + 1, "at": func.now()},
        ),
        rows,
    )
    noted = insert(ChangedDescription)
    session.execute(
        noted.on_conflict_do_update(
            index_elements=["change_id", "picture_id"], set_={"after": noted.excluded.after}
        ),
        [
            {
                "change_id": change.id,
                "picture_id": one.picture_id,
                "before": one.before.model_dump(),
                "after": one.after.model_dump(),
            }
            for one in new
        ],
    )
    change.pictures = max(change.pictures, len(new))
    for start in range(0, len(new), _A_MESSAGE):
        told = [{"path": one.path} | one.after.model_dump() for one in new[start : start + _A_MESSAGE]]
        notify_webhooks(
            session, library, EventType.DESCRIPTIONS_CHANGED, {"language": language, "pictures": told}
        )


def _row(
    library_id: int, language: str, new: NewTexts, by: str, settings: DescriptionSettings, terms: Terms
) -> dict[str, Any]:
    faults = faults_of(new.after, path=new.path, language=language, settings=settings, terms=terms)
    return {
        "picture_id": new.picture_id,
        "language": language,
        "library_id": library_id,
        **new.after.model_dump(),
        "fold": fold_of(new.after.alternative),
        "faults": [str(fault) for fault in faults],
        "by": by,
        "version": 1,
    }


def undo(session: Session, library: Library, number: int, by: str) -> Undone:
    """Puts back what a change changed, where nobody changed it again since.

    Raises :class:`Refusal` ``not-found`` and ``ended``."""
    change = session.scalar(
        select(DescriptionChange)
        .where(DescriptionChange.id == number, DescriptionChange.library_id == library.id)
        .with_for_update()
    )
    if change is None:
        raise Refusal("not-found", f"there is no change {number}")
    if change.undone_at is not None:
        raise Refusal("ended", f"change {number} was undone already")
    undoing = begin_change(session, library, change.language, f"undid change {number}", by)
    terms, result, last = terms_of(session, library.id), Undone(undone=0, kept=0), 0
    while rows := session.execute(
        select(ChangedDescription, Picture.path, Description)
        .join(Picture, Picture.id == ChangedDescription.picture_id)
        .outerjoin(
            Description,
            (Description.picture_id == Picture.id) & (Description.language == change.language),
        )
        .where(ChangedDescription.change_id == number, ChangedDescription.picture_id > last)
        .order_by(ChangedDescription.picture_id)
        .limit(_AT_ONCE)
        .with_for_update(of=Picture)
    ).all():
        back = [
            NewTexts(noted.picture_id, path, texts_of(row), Texts.model_validate(noted.before))
            for noted, path, row in rows
            if texts_of(row) == Texts.model_validate(noted.after)
        ]
        last = rows[-1][0].picture_id
        result.undone += len(back)
        result.kept += len(rows) - len(back)
        write(session, library, change.language, back, undoing, terms)
        session.expire_all()
    end_change(session, library, undoing)
    change.undone_at = func.now()
    session.flush()
    return result


def judge_again(session: Session, library: Library) -> None:
    """Judges all that was said, by the rules and terms as they are now."""
    settings, terms = settings_of(library), terms_of(session, library.id)
    last: tuple[int, str] = (0, "")
    while rows := session.execute(
        select(Description, Picture.path)
        .join(Picture, Picture.id == Description.picture_id)
        .where(
            Description.library_id == library.id,
            (Description.picture_id > last[0])
            | ((Description.picture_id == last[0]) & (Description.language > last[1])),
        )
        .order_by(Description.picture_id, Description.language)
        .limit(_AT_ONCE)
    ).all():
        for row, path in rows:
            found = faults_of(texts_of(row), path=path, language=row.language, settings=settings, terms=terms)
            if (now := [str(fault) for fault in found]) != row.faults:
                row.faults = now
        last = rows[-1][0].picture_id, rows[-1][0].language
        session.flush()
        session.expunge_all()
    notify(session, descriptions=library.id)


def differences(new: NewTexts) -> list[ChangedText]:
    """Each text that changes, before and after."""
    found = [
        ChangedText(picture_id=new.picture_id, path=new.path, field=field, before=before, after=after)
        for field in TextField
        if (before := getattr(new.before, field)) != (after := getattr(new.after, field))
    ]
    if new.before.decorative != new.after.decorative:
        words = {True: "yes", False: "no"}
        found.append(
            ChangedText(
                picture_id=new.picture_id,
                path=new.path,
                field="decorative",
                before=words[new.before.decorative],
                after=words[new.after.decorative],
            )
        )
    return found
