"""A library as version 0003 left it, with data of every kind, is brought up to date: nothing is lost or
retold."""

import psycopg
import pytest
from psycopg.types.json import Jsonb
from sqlalchemy import select
from test_database import migrate

from plumcrate.contract.jobs import JobKind
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.deciding.decision import key_of
from plumcrate.records.database import Database
from plumcrate.records.queries.jobs import job_view
from plumcrate.records.queries.libraries import library_view
from plumcrate.records.tables import Derived, File, Job, Journal, Library, RecipeVersion, Result, Run
from plumcrate.runs.runs import recipe_of

OLD, NEW, COPY, PNG = (bytes([number]) * 32 for number in range(4))
SETTINGS = {
    "level": "lean",
    "webp": False,
    "avif": True,
    "effort": "normal",
    "metadata": ["rights", "place"],
    "rules": [
        {
            "name": "logos",
            "when": {"folder": "logos"},
            "leave": False,
            "how": {"level": "exact", "webp": None, "avif": False, "effort": None, "metadata": None},
        },
        {"name": "press", "when": {"folder": "press"}, "leave": True, "how": {}},
    ],
}
KEY = {"level": "lean", "webp": False, "limits": {"pixels": 60_000_000}}


#: Columns of before that want a value, and what says nothing.
NEEDED = (
    "SELECT column_name, data_type FROM information_schema.columns WHERE table_name = %s "
    "AND is_nullable = 'NO' AND column_default IS NULL AND is_identity = 'NO'"
)
EMPTY = {"bigint": 0, "double precision": 0.0, "text": "", "jsonb": {}, "boolean": False, "bytea": b""}


@pytest.fixture
def old(empty_database_url: str) -> str:
    migrate(empty_database_url, "0003")
    with psycopg.connect(empty_database_url, autocommit=True) as connection:

        def put(table: str, **values: object) -> None:
            for name, kind in connection.execute(NEEDED, [table]).fetchall():
                values.setdefault(name, EMPTY[kind])
            held = {
                name: Jsonb(value) if isinstance(value, dict | list) else value
                for name, value in values.items()
            }
            names = ", ".join(held)
            marks = ", ".join(["%s"] * len(held))
            connection.execute(f"INSERT INTO {table} ({names}) VALUES ({marks})", list(held.values()))  # type: ignore[arg-type]

        put("libraries", slug="l", name="L", root="/l", patterns=[], upkeep={})
        put("recipes", library_id=1, version=1, settings=SETTINGS, by="x")
        put(
            "pictures",
            library_id=1,
            path="a.png",
            folder="",
            name="a.png",
            state="lighter",
            files=1,
            bytes_before=9,
            bytes_now=5,
            bytes_lightest=3,
            width=30,
            height=20,
        )
        put(
            "files",
            library_id=1,
            picture_id=1,
            path="a.png",
            folder="",
            role="original",
            state="lighter",
            width=30,
            height=20,
            size_before=9,
            size_now=5,
            mtime_ns=1,
            mtime_ns_before=1,
            sha256=NEW,
            before_sha256=OLD,
            level="lean",
            recipe=KEY,
        )
        put("copies", library_id=1, file_id=1, kind="avif", path="a.png.avif", size=3, sha256=COPY, how="q")
        put("copies", library_id=1, file_id=1, kind="jpeg", path="a.jpg", size=4, sha256=PNG, how="step 80")
        put(
            "results",
            library_id=1,
            sha256=NEW,
            size=5,
            kind="file",
            original_sha256=OLD,
            made={"recipe": KEY},
        )
        put("results", library_id=1, sha256=COPY, size=3, kind="avif", original_sha256=OLD, made={})
        put("results", library_id=1, sha256=PNG, size=4, kind="jpeg", original_sha256=OLD, made={})
        put(
            "journal",
            library_id=1,
            file_id=1,
            action="copy",
            path="a.png.avif",
            staged=".plumcrate-1",
            after_sha256=COPY,
            detail={"version": 1, "kind": "avif", "how": "q"},
        )
        put(
            "journal",
            library_id=1,
            file_id=1,
            action="drop-copy",
            path="a.jpg",
            staged=".plumcrate-2",
            before_sha256=PNG,
            detail={"version": 1, "copy_id": 2},
        )
        put("runs", library_id=1, kind="treat", origin="person", state="running", settings=SETTINGS, scope={})
        put(
            "surveys",
            library_id=1,
            state="finished",
            files_seen=4,
            files_new=1,
            notes=["left out"],
            pictures=1,
        )
        put("surveys", library_id=1, state="running", notes=[])
        put(
            "checks",
            library_id=1,
            state="finished",
            mend=True,
            files=3,
            differences=1,
            mended=1,
            findings=[{"what": "copy-missing", "path": "x", "detail": "y", "mended": True}],
        )
        put(
            "forecasts",
            library_id=1,
            state="finished",
            settings={"recipe": SETTINGS, "seconds": 5},
            recipe_version=1,
            by="keeper",
            result={
                "files": 1,
                "bytes_before": 9,
                "sampled_files": 1,
                "sampled_bytes": 9,
                "seconds": 1.0,
                "bytes_after": {"low": 4, "expected": 5, "high": 6},
                "bytes_lightest": {"low": 2, "expected": 3, "high": 4},
            },
        )
    return empty_database_url


def test_everything_is_there_in_the_new_words(old: str) -> None:
    database = Database(old)
    database.migrate()
    with database.begin() as session:
        derived = session.scalars(select(Derived).order_by(Derived.id)).all()
        assert [(one.purpose, one.format, one.width, one.height, one.stands_in) for one in derived] == [
            ("copy", "avif", 30, 20, True),
            ("conversion", "jpeg", 30, 20, True),
        ]
        results = {row.sha256: (row.purpose, row.format) for row in session.scalars(select(Result))}
        assert results == {NEW: ("file", None), COPY: ("copy", "avif"), PNG: ("conversion", "jpeg")}
        settings = RecipeSettings.model_validate(session.scalars(select(RecipeVersion)).one().settings)
        assert settings.copies == ["avif"]
        assert settings.metadata == ["rights", "place"], "who kept more keeps it"
        assert settings.rules[0].how.copies == []
        assert settings.rules[1].leave
        copy, drop = session.scalars(select(Journal).order_by(Journal.id))
        assert copy.detail == {
            "version": 1,
            "purpose": "copy",
            "format": "avif",
            "width": 30,
            "height": 20,
            "how": "q",
        }
        assert drop.detail == {"version": 1, "derived_id": 2}
    database.close()


def test_what_was_treated_just_so_still_counts_as_that(old: str) -> None:
    database = Database(old)
    database.migrate()
    with database.begin() as session:
        run = session.scalars(select(Run)).one()
        # A run of before goes on with its own settings.
        recipe = recipe_of(session, run, 7)
        assert recipe.copies == {"avif"}
        file = session.scalars(select(File)).one()
        assert file.recipe == {"level": "lean", "copies": ["avif"]}
        made = session.scalars(select(Result.made).where(Result.sha256 == NEW)).one()
        assert made == {"recipe": {"level": "lean", "copies": ["avif"]}}
        assert key_of(recipe) == {"level": "lean", "copies": ["avif"], "metadata": ["place", "rights"]}
    database.close()


def test_surveys_checks_and_forecasts_are_jobs(old: str) -> None:
    database = Database(old)
    database.migrate()
    with database.begin() as session:
        jobs = {(row.kind, row.state): job_view(session, row, "l") for row in session.scalars(select(Job))}
        assert set(jobs) == {
            ("survey", "finished"),
            ("survey", "failed"),
            ("check", "finished"),
            ("forecast", "finished"),
        }
        survey = jobs["survey", "finished"].survey
        assert survey is not None
        assert (survey.files_seen, survey.notes) == (4, ["left out"])
        assert jobs["survey", "failed"].reason == "ended by an update"
        check = jobs["check", "finished"]
        assert check.check is not None
        assert (check.mend, check.check.files, check.check.findings[0].mended) == (True, 3, True)
        forecast = jobs["forecast", "finished"]
        assert forecast.forecast is not None
        assert forecast.forecast.outlook is not None
        assert (forecast.by, forecast.forecast.recipe_version) == ("keeper", 1)
        assert forecast.forecast.outlook.bytes_after.expected == 5
        held = session.scalars(select(Job.request).where(Job.kind == JobKind.FORECAST)).one()
        assert held["recipe"]["copies"] == ["avif"]
    database.close()


def test_totals_go_on_being_kept(old: str) -> None:
    database = Database(old)
    database.migrate()
    with database.begin() as session:
        library = session.scalars(select(Library)).one()
        assert (library_view(session, library).copies, library_view(session, library).copy_formats) == (
            2,
            ["avif"],
        )
        session.add(
            Derived(
                library_id=1, file_id=1, purpose="copy", format="webp", path="a.webp", size=2, sha256=b"x"
            )
        )
        session.flush()
        assert library_view(session, library).copies == 3
        session.delete(session.get_one(Derived, 1))
        session.flush()
        assert library_view(session, library).copies == 2
    database.close()
