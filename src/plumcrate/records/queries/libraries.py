"""Libraries with their totals, and their recipes."""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import urlsplit

from sqlalchemy import ColumnElement, delete, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.common import Page
from plumcrate.contract.delivery import Delivery
from plumcrate.contract.jobs import JobKind
from plumcrate.contract.libraries import Library as LibraryView
from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import Recipe, RecipeSettings
from plumcrate.records.queries.jobs import job_view, latest_jobs
from plumcrate.records.queries.tallies import Total, total, totals_of
from plumcrate.records.tables import Job, LeftStore, Library, RecipeVersion, Webhook

from . import cursors


def by_slug(session: Session, slug: str) -> Library | None:
    return session.scalar(select(Library).where(Library.slug == slug))


def all_libraries(session: Session, condition: ColumnElement[bool]) -> list[Library]:
    """Those of which the condition holds, by name."""
    return list(session.scalars(select(Library).where(condition).order_by(Library.name)))


def new_library(
    session: Session,
    slug: str,
    name: str,
    root: str,
    patterns: list[str],
    settings: RecipeSettings,
    by: str,
) -> Library:
    """A library with the first version of its recipe."""
    library = Library(slug=slug, name=name, root=root, patterns=patterns, automation={}, delivery={})
    session.add(library)
    session.flush()
    session.execute(delete(LeftStore).where(LeftStore.slug == slug))  # its store is in use again
    first = settings.model_dump(mode="json")
    session.add(RecipeVersion(library_id=library.id, version=1, settings=first, by=by))
    session.flush()
    session.refresh(library)
    return library


def library_view(session: Session, library: Library) -> LibraryView:
    """A library with its totals. Pictures count assets; files count originals and renditions."""
    return library_views(session, [library])[0]


def library_views(session: Session, libraries: Sequence[Library]) -> list[LibraryView]:
    """Those libraries with their totals, in four statements whatever their number."""
    numbers = [library.id for library in libraries]
    sums = totals_of(session, numbers)
    surveys = latest_jobs(session, numbers, JobKind.SURVEY)
    recipes = _current_recipes(session, numbers)
    stopped = _stopped_webhooks(session, numbers)
    return [
        _view(
            session,
            library,
            sums.get(library.id, {}),
            surveys.get(library.id),
            recipes[library.id],
            stopped.get(library.id, []),
        )
        for library in libraries
    ]


def _view(
    session: Session,
    library: Library,
    sums: dict[tuple[str, str], Total],
    survey: Job | None,
    recipe: RecipeVersion,
    stopped: list[str],
) -> LibraryView:
    states = {state: value.rows for (noun, state), value in sums.items() if noun == "file"}
    pictures, copies, backups = (total(sums, noun) for noun in ("picture", "copy", "backup"))
    settings = RecipeSettings.model_validate(recipe.settings)
    automation = Automation.model_validate(library.automation)
    settled = (FileState.LIGHTER, FileState.KEPT, FileState.LEFT_ALONE, FileState.REMOVED)
    return LibraryView(
        slug=library.slug,
        name=library.name,
        root=library.root,
        recipe_version=recipe.version,
        level=settings.level,
        copy_formats=settings.copies,
        patterns=library.patterns,
        automation=automation,
        delivery=Delivery.model_validate(library.delivery),
        dormant=library.dormant,
        warnings=_warnings(automation, total(sums, "lost").rows, stopped),
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
        last_survey=job_view(session, survey, library.slug) if survey else None,
    )


def _stopped_webhooks(session: Session, numbers: Sequence[int]) -> dict[int, list[str]]:
    """By library, the hosts of webhooks that are told no more; an address may hold what only its owner
    knows."""
    hosts: dict[int, list[str]] = {}
    rows = session.execute(
        select(Webhook.library_id, Webhook.address)
        .where(Webhook.library_id.in_(numbers), Webhook.stopped_at.is_not(None))
        .order_by(Webhook.id)
    )
    for library, address in rows:
        hosts.setdefault(library, []).append(urlsplit(address).hostname or "")
    return hosts


def _warnings(automation: Automation, lost: int, stopped: list[str]) -> list[str]:
    warnings = []
    if not automation.backups:
        warnings.append(
            "Backups are off: a file that is changed with loss from now on can never be put back "
            "or made again."
        )
    if lost:
        warnings.append(f"{lost:,} treated files have no backup and cannot be put back.")
    warnings += [
        f"The webhook at {host} took nothing and was stopped. Send it a message to try it."
        for host in stopped
    ]
    if automation.keep_backups_days is not None:
        warnings.append(
            f"Backups older than {automation.keep_backups_days} days are deleted, "
            "also those of treated files."
        )
    return warnings


def current_recipe(session: Session, library_id: int) -> RecipeVersion:
    """The newest version of a library's recipe."""
    return _current_recipes(session, [library_id])[library_id]


def _current_recipes(session: Session, library_ids: Sequence[int]) -> dict[int, RecipeVersion]:
    query = (
        select(RecipeVersion)
        .ext(distinct_on(RecipeVersion.library_id))
        .where(RecipeVersion.library_id.in_(library_ids))
        .order_by(RecipeVersion.library_id, RecipeVersion.version.desc())
    )
    return {recipe.library_id: recipe for recipe in session.scalars(query)}


def recipes_page(session: Session, library: Library, *, after: str | None, limit: int) -> Page[Recipe]:
    """All versions, the latest first. Raises Refusal for a cursor of another list."""
    return cursors.by_number(
        session,
        select(RecipeVersion).where(RecipeVersion.library_id == library.id),
        RecipeVersion.id,
        lambda rows: [recipe_view(row, library.slug) for row in rows],
        of=f"recipes of {library.id}",
        after=after,
        limit=limit,
    )


def recipe_view(row: RecipeVersion, slug: str) -> Recipe:
    settings = RecipeSettings.model_validate(row.settings)
    return Recipe(library=slug, version=row.version, settings=settings, by=row.by, created_at=row.created_at)
