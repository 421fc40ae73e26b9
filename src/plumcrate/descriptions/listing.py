"""Descriptions as they are shown: what a picture says, what is wanting, what could be said."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.descriptions import Description as DescriptionView
from plumcrate.contract.descriptions import (
    DescriptionChange,
    DescriptionFault,
    DescriptionFilter,
    DescriptionRule,
    DescriptionSettings,
    DescriptionsSummary,
    SearchTerm,
)
from plumcrate.records.queries import descriptions as queries
from plumcrate.records.tables import Description, Library, Picture
from plumcrate.records.tables import DescriptionChange as ChangeRow
from plumcrate.records.tables import SearchTerm as TermRow

from .known import KnownPicture, known_pictures
from .rules import reason_of, words_of

_TERMS_SHOWN, _TERMS_ASKED, _CHANGES = 6, 500, 50
#: Shorter words are in everything.
_TELLING = 4


def settings_of(library: Library) -> DescriptionSettings:
    return DescriptionSettings.model_validate(library.descriptions)


def descriptions_page(
    session: Session,
    library: Library,
    language: str,
    filter: DescriptionFilter,
    *,
    limit: int,
    after: str | None,
) -> Page[DescriptionView]:
    """One page of pictures by path, described or not. Raises :class:`~plumcrate.refusal.Refusal`."""
    ids, total, cursor = queries.ids_page(session, library.id, language, filter, limit=limit, after=after)
    return Page[DescriptionView](
        rows=described(session, library, language, known_pictures(session, language, ids)),
        total=total,
        cursor=cursor,
    )


def description_of(session: Session, library: Library, language: str, picture: Picture) -> DescriptionView:
    """One picture's description, which may say nothing yet."""
    return described(session, library, language, known_pictures(session, language, [picture.id]))[0]


def summary(session: Session, library: Library, language: str) -> DescriptionsSummary:
    """How far a library is described."""
    return queries.summary(session, library, language, settings_of(library).rules)


def changes(session: Session, library: Library) -> list[DescriptionChange]:
    """The latest changes, the latest first."""
    rows = session.scalars(
        select(ChangeRow)
        .where(ChangeRow.library_id == library.id)
        .order_by(ChangeRow.id.desc())
        .limit(_CHANGES)
    )
    return [DescriptionChange.model_validate(row) for row in rows]


def described(
    session: Session, library: Library, language: str, known: Sequence[KnownPicture]
) -> list[DescriptionView]:
    """Pictures with all that is said and known of them."""
    settings = settings_of(library)
    folds = [one.row.fold for one in known if one.row is not None and one.row.fold]
    doubled: set[str | None] = set()
    if DescriptionRule.DOUBLED in settings.rules and folds:
        of_these = queries.doubled_folds(library.id, language).where(Description.fold.in_(folds))
        doubled = set(session.scalars(of_these))
    terms = _terms_for(session, library, known)
    return [
        DescriptionView(
            picture_id=one.picture.id,
            library=library.slug,
            path=one.picture.path,
            original_id=one.picture.original_id or 0,
            bytes_now=one.picture.bytes_now,
            width=one.picture.width,
            height=one.picture.height,
            language=language,
            **one.texts.model_dump(),
            version=one.row.version if one.row is not None else 0,
            by=one.row.by if one.row is not None else "",
            at=one.row.at if one.row is not None else None,
            faults=[
                DescriptionFault(rule=rule, text=reason_of(rule, settings))
                for rule in settings.rules
                if _wants(one, rule, doubled)
            ],
            suggestions=one.suggestions,
            uses=one.uses,
            terms=found,
        )
        for one, found in zip(known, terms, strict=True)
    ]


def _wants(one: KnownPicture, rule: DescriptionRule, doubled: set[str | None]) -> bool:
    if rule is DescriptionRule.MISSING:
        return not one.texts.alternative and not one.texts.decorative
    if one.row is None:
        return False
    return one.row.fold in doubled if rule is DescriptionRule.DOUBLED else rule in one.row.faults


def _terms_for(session: Session, library: Library, known: Sequence[KnownPicture]) -> list[list[SearchTerm]]:
    """For each picture the terms that have a telling word in common with what is known of it."""
    words = [_telling(one) for one in known]
    everything = sorted(set().union(*words))
    if not everything:
        return [[] for _ in known]
    rows = session.scalars(
        select(TermRow)
        .where(TermRow.library_id == library.id, TermRow.words.overlap(everything))
        .order_by(TermRow.count.desc(), func.length(TermRow.term))
        .limit(_TERMS_ASKED)
    ).all()
    return [
        [
            SearchTerm(term=row.term, count=row.count)
            for row in rows
            if not mine.isdisjoint(word for word in row.words if len(word) >= _TELLING)
        ][:_TERMS_SHOWN]
        for mine in words
    ]


def _telling(one: KnownPicture) -> set[str]:
    texts: Iterable[str] = (
        one.texts.alternative,
        one.texts.title,
        one.texts.caption,
        one.picture.path,
        *(suggestion.text for suggestion in one.suggestions),
    )
    return {word for text in texts for word in words_of(text) if len(word) >= _TELLING}
