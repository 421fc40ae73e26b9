"""Saying beforehand what a recipe would do: to a whole library, or to one picture's files."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, and_, case, exists, func, literal, or_, select
from sqlalchemy.dialects.postgresql import JSONB, array
from sqlalchemy.orm import Session

from plumcrate.contract.common import CopyFormat, Level
from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import Effect, FilePlan, MetadataKind, RecipeSettings
from plumcrate.contract.recipes import Effort as WireEffort
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.tables import File, Library, Picture, RecipeVersion, WorkerRow
from plumcrate.refusal import Refusal

from .decision import BEYOND, Variant, variant_of, variants
from .shaping import shapes_of

#: Files that are there.
PRESENT = File.state != FileState.GONE
#: Files that are there, or are to be made for a size.
DUE = or_(PRESENT, and_(File.size_name.is_not(None), ~File.unwanted))
#: Files that were too large for the machine they came to.
_TOO_LARGE = func.coalesce(func.jsonb_exists(File.recipe, BEYOND), False)


def settings_of(row: RecipeVersion) -> RecipeSettings:
    return RecipeSettings.model_validate(row.settings)


def left_alone(ways: list[Variant], number: ColumnElement[int]) -> ColumnElement[bool]:
    """Whether the variant with a number leaves files alone."""
    return number.in_([index for index, variant in enumerate(ways) if variant.recipe is None])


def settled(
    ways: list[Variant], number: ColumnElement[int], shapes: ColumnElement[Any]
) -> ColumnElement[bool]:
    """Whether a file was last treated just as the variant with a number says, and shaped as it is to be.

    One that was too large for the machine it came to is not settled once a worker takes larger ones.
    """
    treating = [
        (number == index, literal(variant.key, JSONB)) for index, variant in enumerate(ways) if variant.key
    ]
    wanted = case(*treating).op("||", return_type=JSONB)(shapes)
    just_so = and_(File.recipe.op("-", return_type=JSONB)(BEYOND) == wanted, PRESENT)
    beyond = File.recipe[BEYOND]
    welcome = exists(
        select(1).where(
            or_(
                WorkerRow.most_pixels > beyond["pixels"].as_integer(),
                WorkerRow.most_bytes > beyond["bytes"].as_integer(),
            )
        )
    )
    return and_(func.coalesce(just_so, False), ~welcome)


#: Treated so that pixels changed, without a backup to start from again.
NO_ORIGINAL = and_(
    File.treated_at.is_not(None),
    File.before_sha256.is_(None),
    File.sha256.is_not(None),
    or_(
        File.level != "exact",
        func.coalesce(func.jsonb_exists_any(File.recipe, array(["touches", "watermark"])), False),
    ),
    File.size_name.is_(None),
)


def effect(session: Session, library: Library, settings: RecipeSettings) -> Effect:
    """How many files a recipe would treat, make again, pass over and leave alone."""
    ways = variants(settings, library.surveyed_at)
    number = variant_of(ways)
    status = case(
        (left_alone(ways, number), "left_out"),
        (settled(ways, number, shapes_of(session, library.id)), "settled"),
        (NO_ORIGINAL, "without_backup"),
        (File.recipe.is_(None), "new"),
        else_="again",
    )
    decided = (
        select(number.label("number"), status.label("status"))
        .select_from(File)
        .join(Picture, Picture.id == File.picture_id)
        .where(File.library_id == library.id, PRESENT, or_(File.state != FileState.UNREADABLE, _TOO_LARGE))
        .subquery()
    )
    rows = session.execute(
        select(decided.c.number, decided.c.status, func.count()).group_by(decided.c.number, decided.c.status)
    ).all()
    counts: dict[str, int] = {}
    by_rule: dict[str, int] = {rule.name: 0 for rule in settings.rules}
    for index, kind, files in rows:
        counts[kind] = counts.get(kind, 0) + files
        rule = ways[index].rule
        if rule is not None:
            by_rule[rule] += files
    return Effect(
        files=sum(counts.values()),
        new=counts.get("new", 0),
        again=counts.get("again", 0),
        settled=counts.get("settled", 0),
        left_out=counts.get("left_out", 0),
        without_backup=counts.get("without_backup", 0),
        by_rule=by_rule,
    )


def plan(session: Session, library: Library, settings: RecipeSettings, picture_id: int) -> list[FilePlan]:
    """What would happen to each file of one picture, the original first."""
    ways = variants(settings, library.surveyed_at)
    number = variant_of(ways)
    rows = session.execute(
        select(
            File.path,
            File.recipe.is_(None),
            number,
            settled(ways, number, shapes_of(session, library.id)),
            NO_ORIGINAL,
        )
        .join(Picture, Picture.id == File.picture_id)
        .where(File.picture_id == picture_id, PRESENT)
        .order_by(File.role, File.width.desc(), File.path)
    ).all()
    return [_plan(path, ways[index], new, done, lost) for path, new, index, done, lost in rows]


def _plan(path: str, variant: Variant, new: bool, done: bool, lost: bool) -> FilePlan:
    recipe = variant.recipe
    if recipe is None:
        return FilePlan(
            path=path,
            rule=variant.rule,
            verdict="leave",
            because=variant.because,
            level=None,
            copies=[],
        )
    because = variant.because
    values: dict[str, Any] = {"verdict": "treat" if new else "again"}
    if done:
        values["verdict"] = "settled"
        because += "; it was treated with these settings already"
    elif lost:
        values["verdict"] = "leave"
        because = "it was changed before and has no backup to start from"
    elif not new:
        because += "; it was treated otherwise before and is made again from its backup"
    return FilePlan(
        path=path,
        rule=variant.rule,
        because=because,
        level=Level(recipe.level),
        copies=[kind for kind in CopyFormat if kind in recipe.copies],
        largest=recipe.largest,
        metadata=[kind for kind in MetadataKind if str(kind) in recipe.metadata],
        effort=WireEffort(recipe.effort),
        **values,
    )


def save_recipe(
    session: Session, library: Library, settings: RecipeSettings, by: str, *, based_on: int | None = None
) -> RecipeVersion:
    """The newest version, with these settings; the one in use when they are the same. ``based_on``: the
    version that was changed. Raises :class:`Refusal` ``changed-meanwhile`` where it is in use no more."""
    session.execute(select(Library.id).where(Library.id == library.id).with_for_update())
    current = current_recipe(session, library.id)
    if settings_of(current) == settings:
        return current
    if based_on not in (None, current.version):
        raise Refusal(
            "changed-meanwhile",
            f"{current.by or 'somebody'} saved version {current.version} while you changed {based_on}. "
            "Nothing of yours was saved: look at theirs, then save yours again",
            by=current.by or None,
            at=current.created_at.isoformat(),
            current=current.settings,
            tag=f'"{current.version}"',
        )
    row = RecipeVersion(
        library_id=library.id, version=current.version + 1, settings=settings.model_dump(mode="json"), by=by
    )
    session.add(row)
    session.flush()
    session.refresh(row)
    return row
