"""Libraries with their totals, and their surveys."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate import contract
from plumcrate.contract import FileState
from plumcrate.records.queries.tallies import total, totals
from plumcrate.records.tables import (
    Check,
    Copy,
    File,
    Forecast,
    Item,
    Library,
    RecipeVersion,
    Run,
    Survey,
)


def by_slug(session: Session, slug: str) -> Library | None:
    return session.scalar(select(Library).where(Library.slug == slug))


def new_library(
    session: Session,
    slug: str,
    name: str,
    root: str,
    patterns: list[str],
    settings: contract.RecipeSettings,
    by: str,
) -> Library:
    """A library with the first version of its recipe."""
    library = Library(slug=slug, name=name, root=root, patterns=patterns, upkeep={})
    session.add(library)
    session.flush()
    first = settings.model_dump(mode="json")
    session.add(RecipeVersion(library_id=library.id, version=1, settings=first, by=by))
    session.flush()
    session.refresh(library)
    return library


def survey_view(survey: Survey, slug: str) -> contract.Survey:
    fields = contract.Survey.model_fields.keys() - {"library"}
    return contract.Survey(library=slug, **{name: getattr(survey, name) for name in fields})


def latest_survey(session: Session, library_id: int) -> Survey | None:
    query = select(Survey).where(Survey.library_id == library_id).order_by(Survey.id.desc()).limit(1)
    return session.scalar(query)


def library_view(session: Session, library: Library) -> contract.Library:
    """A library with its totals. Pictures count assets; files count originals and renditions."""
    found = totals(session, library.id)
    states = {state: value.rows for (noun, state), value in found.items() if noun == "file"}
    pictures, copies, backups = (total(found, noun) for noun in ("picture", "copy", "backup"))
    survey = latest_survey(session, library.id)
    recipe = current_recipe(session, library.id)
    settings = contract.RecipeSettings.model_validate(recipe.settings)
    upkeep = contract.Upkeep.model_validate(library.upkeep)
    settled = (FileState.LIGHTER, FileState.KEPT, FileState.LEFT_ALONE, FileState.REMOVED)
    return contract.Library(
        slug=library.slug,
        name=library.name,
        root=library.root,
        recipe_version=recipe.version,
        level=settings.level,
        webp=settings.webp,
        avif=settings.avif,
        patterns=library.patterns,
        upkeep=upkeep,
        at_rest=library.at_rest,
        warnings=_warnings(upkeep, total(found, "lost").rows),
        created_at=library.created_at,
        pictures=pictures.rows,
        files=sum(count for state, count in states.items() if state != FileState.GONE),
        files_new=states.get(FileState.NEW, 0),
        files_treated=sum(states.get(state, 0) for state in settled),
        files_unreadable=states.get(FileState.UNREADABLE, 0),
        files_failed=states.get(FileState.FAILED, 0),
        copies=copies.rows,
        bytes_before=pictures.bytes_before,
        bytes_now=pictures.bytes_now,
        bytes_lightest=pictures.bytes_lightest,
        bytes_backups=backups.bytes_now,
        last_survey=survey_view(survey, library.slug) if survey else None,
    )


def _warnings(upkeep: contract.Upkeep, lost: int) -> list[str]:
    warnings = []
    if not upkeep.backups:
        warnings.append(
            "Backups are off: a file that is changed with loss from now on can never be put back "
            "or made again."
        )
    if lost:
        warnings.append(f"{lost:,} treated files have no backup and cannot be put back.")
    if upkeep.keep_backups_days is not None:
        warnings.append(
            f"Backups older than {upkeep.keep_backups_days} days are deleted, also those of treated files."
        )
    return warnings


def current_recipe(session: Session, library_id: int) -> RecipeVersion:
    """The newest version of a library's recipe."""
    query = select(RecipeVersion).where(RecipeVersion.library_id == library_id)
    return session.scalars(query.order_by(RecipeVersion.version.desc()).limit(1)).one()


def recipe_view(row: RecipeVersion, slug: str) -> contract.Recipe:
    settings = contract.RecipeSettings.model_validate(row.settings)
    return contract.Recipe(
        library=slug, version=row.version, settings=settings, by=row.by, created_at=row.created_at
    )


def check_view(row: Check, slug: str) -> contract.Check:
    fields = contract.Check.model_fields.keys() - {"library"}
    return contract.Check(library=slug, **{name: getattr(row, name) for name in fields})


def forecast_view(session: Session, row: Forecast, library: Library) -> contract.Forecast:
    """A forecast, and how right it has been for the files treated with that version since."""
    outlook = contract.Outlook.model_validate(row.result) if row.result else None
    if outlook is not None and row.recipe_version is not None:
        lightest = select(func.min(Copy.size)).where(Copy.file_id == File.id).scalar_subquery()
        treated = select(Item.file_id).join(Run, Run.id == Item.run_id).where(
            Run.library_id == library.id, Run.recipe_version == row.recipe_version,
            Item.state.in_(["done", "passed"]),
        )  # fmt: skip
        sums = session.execute(
            select(
                func.count(),
                func.coalesce(func.sum(File.size_before), 0),
                func.coalesce(func.sum(File.size_now), 0),
                func.coalesce(func.sum(func.least(File.size_now, lightest)), 0),
            ).where(File.id.in_(treated), File.treated_at.is_not(None))
        ).one()
        outlook = outlook.model_copy(
            update=dict(
                zip(
                    ("actual_files", "actual_before", "actual_after", "actual_lightest"),
                    map(int, sums),
                    strict=True,
                )
            )
        )
    return contract.Forecast(
        id=row.id,
        library=library.slug,
        state=contract.JobState(row.state),
        reason=row.reason,
        recipe_version=row.recipe_version,
        result=outlook,
        created_at=row.created_at,
        finished_at=row.finished_at,
    )
