"""Libraries with their totals, and their surveys."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate import contract
from plumcrate.contract import FileState
from plumcrate.records.tables import (
    Backup,
    Check,
    Copy,
    File,
    Forecast,
    Item,
    Library,
    Picture,
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
    states = dict(
        session.execute(
            select(File.state, func.count()).where(File.library_id == library.id).group_by(File.state)
        ).all()
    )
    present = Picture.library_id == library.id, Picture.state != FileState.GONE
    sums = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(Picture.bytes_before), 0),
            func.coalesce(func.sum(Picture.bytes_now), 0),
            func.coalesce(func.sum(Picture.bytes_lightest), 0),
        ).where(*present)
    ).one()
    copies = session.scalar(select(func.count()).where(Copy.library_id == library.id))
    backups = session.scalar(
        select(func.coalesce(func.sum(Backup.size), 0)).where(Backup.library_id == library.id)
    )
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
        warnings=_warnings(session, library, upkeep),
        created_at=library.created_at,
        pictures=sums[0],
        files=sum(count for state, count in states.items() if state != FileState.GONE),
        files_new=states.get(FileState.NEW, 0),
        files_treated=sum(states.get(state, 0) for state in settled),
        files_unreadable=states.get(FileState.UNREADABLE, 0),
        files_failed=states.get(FileState.FAILED, 0),
        copies=copies or 0,
        bytes_before=int(sums[1]),
        bytes_now=int(sums[2]),
        bytes_lightest=int(sums[3]),
        bytes_backups=int(backups or 0),
        last_survey=survey_view(survey, library.slug) if survey else None,
    )


def _warnings(session: Session, library: Library, upkeep: contract.Upkeep) -> list[str]:
    warnings = []
    if not upkeep.backups:
        warnings.append(
            "Backups are off: a file that is changed with loss from now on can never be put back "
            "or made again."
        )
    lost = session.scalar(
        select(func.count()).where(
            File.library_id == library.id,
            File.sha256.is_not(None),
            File.before_sha256.is_(None),
            File.state != FileState.GONE,
        )
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
