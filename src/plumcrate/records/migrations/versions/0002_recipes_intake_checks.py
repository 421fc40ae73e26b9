"""Recipes as versions, upkeep, intake, checks, forecasts, workers"""

import json
from typing import Any

from alembic import op
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

JSON = postgresql.JSONB(astext_type=sa.Text())
TIME = sa.DateTime(timezone=True)


def _now() -> "sa.Column[Any]":
    return sa.Column("created_at", TIME, server_default=sa.text("now()"), nullable=False)


def _id() -> "sa.Column[Any]":
    return sa.Column("id", sa.BigInteger(), sa.Identity(always=True), primary_key=True)


def _library(**options: Any) -> "sa.Column[Any]":
    target = sa.ForeignKey("libraries.id", ondelete="CASCADE")
    return sa.Column("library_id", sa.BigInteger(), target, nullable=False, **options)


def _number(name: str, default: int = 0) -> "sa.Column[Any]":
    return sa.Column(name, sa.BigInteger(), server_default=str(default), nullable=False)


def _flag(name: str) -> "sa.Column[Any]":
    return sa.Column(name, sa.Boolean(), server_default="false", nullable=False)


def upgrade() -> None:
    op.create_table(
        "recipes",
        _id(),
        _library(),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.Column("settings", JSON, nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        _now(),
        sa.UniqueConstraint("library_id", "version", name="uq_recipes_library_id_version"),
    )
    op.execute(
        "INSERT INTO recipes (library_id, version, settings, by) SELECT id, 1, "
        "jsonb_build_object('level', level, 'webp', webp, 'avif', avif), 'the first tables' FROM libraries"
    )
    op.add_column("libraries", sa.Column("upkeep", JSON, server_default=json.dumps({}), nullable=False))
    for name, kind in (
        ("hook_secret", sa.Text()),
        ("surveyed_at", TIME),
        ("next_survey_at", TIME),
        ("next_run_at", TIME),
    ):
        op.add_column("libraries", sa.Column(name, kind, nullable=True))
    op.execute(
        "UPDATE libraries l SET surveyed_at = "
        "(SELECT min(finished_at) FROM surveys s WHERE s.library_id = l.id AND s.state = 'finished')"
    )
    for name in ("level", "webp", "avif"):
        op.drop_column("libraries", name)

    op.add_column("pictures", sa.Column("own", sa.Text(), nullable=True))
    op.add_column("files", sa.Column("folder", sa.Text(), server_default="", nullable=False))
    op.execute("UPDATE files SET folder = regexp_replace(path, '/?[^/]*$', '')")
    op.execute("UPDATE files SET recipe = NULL WHERE recipe = 'null'::jsonb")
    op.add_column("files", _flag("transparent"))
    op.add_column("files", _flag("animated"))
    op.add_column("files", sa.Column("seen_at", TIME, server_default=sa.text("now()"), nullable=False))
    op.create_index("ix_files_library_id_folder", "files", ["library_id", "folder"])
    op.add_column("backups", sa.Column("pruned_at", TIME, nullable=True))

    op.add_column("runs", sa.Column("origin", sa.Text(), server_default="person", nullable=False))
    op.add_column("runs", sa.Column("settings", JSON, nullable=True))
    op.execute(
        "UPDATE runs SET settings = jsonb_build_object('level', level, 'webp', webp, 'avif', avif) "
        "WHERE level IS NOT NULL"
    )
    for name in ("level", "webp", "avif"):
        op.drop_column("runs", name)
    op.add_column("runs", sa.Column("recipe_version", sa.BigInteger(), nullable=True))
    op.add_column("runs", _flag("overwrite"))
    op.add_column("runs", sa.Column("waits_for", sa.Text(), nullable=True))
    op.add_column("runs", sa.Column("proof", JSON, nullable=True))
    op.add_column("runs", _number("left_out"))
    op.add_column("runs", _number("elsewhere"))
    for name in ("variant", "stage", "tries"):
        op.add_column("run_items", _number(name))
    op.add_column("run_items", sa.Column("not_before", TIME, nullable=True))

    op.create_table(
        "checks",
        _id(),
        _library(index=True),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        _flag("mend"),
        *(_number(name) for name in ("files", "copies", "backups", "differences", "mended")),
        sa.Column("findings", JSON, nullable=False),
        sa.Column("job_id", sa.BigInteger(), nullable=True),
        _now(),
        sa.Column("finished_at", TIME, nullable=True),
    )
    op.create_table(
        "forecasts",
        _id(),
        _library(index=True),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("settings", JSON, nullable=False),
        sa.Column("recipe_version", sa.BigInteger(), nullable=True),
        sa.Column("result", JSON, nullable=True),
        sa.Column("job_id", sa.BigInteger(), nullable=True),
        _now(),
        sa.Column("finished_at", TIME, nullable=True),
    )
    op.create_table(
        "hook_deliveries",
        _library(primary_key=True),
        sa.Column("hook_id", sa.Text(), primary_key=True),
        sa.Column("received_at", TIME, server_default=sa.text("now()"), nullable=False),
    )
    op.create_table(
        "arrivals",
        _library(primary_key=True),
        sa.Column("path", sa.Text(), primary_key=True),
        sa.Column("mode", sa.Text(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=True),
        sa.Column("mtime_ns", sa.BigInteger(), nullable=True),
        sa.Column("changed_at", TIME, server_default=sa.text("now()"), nullable=False),
    )
    op.create_table(
        "workers",
        sa.Column("id", sa.Text(), primary_key=True),
        sa.Column("host", sa.Text(), nullable=False),
        sa.Column("pid", sa.BigInteger(), nullable=False),
        sa.Column("children", sa.BigInteger(), nullable=False),
        sa.Column("version", sa.Text(), nullable=False),
        sa.Column("heard_at", TIME, server_default=sa.text("now()"), nullable=False),
    )

    _indexes()
    _tallies()


def _indexes() -> None:
    """Those that half a million files need; and none that only cost."""
    op.drop_constraint("uq_run_items_run_id_file_id", "run_items")
    for name in ("fk_run_items_file_id", "fk_run_items_run_id"):
        op.drop_constraint(name, "run_items")
    for name in ("file_id", "run_id_picture_id", "run_id_finished_at", "run_id_state"):
        op.drop_index(f"ix_run_items_{name}", "run_items")
    for name, columns, where in (
        ("waiting", ["run_id", "id"], "state = 'waiting'"),
        ("in_flight", ["run_id", "id"], "state IN ('queued', 'working')"),
        ("failed", ["run_id", "finished_at", "id"], "state = 'failed'"),
        ("finished", ["run_id", "finished_at", "id"], "finished_at IS NOT NULL"),
        ("open_file", ["file_id"], "finished_at IS NULL"),
    ):
        op.create_index(f"ix_run_items_{name}", "run_items", columns, postgresql_where=sa.text(where))
    op.drop_index("ix_pictures_saved", "pictures")
    op.drop_index("ix_pictures_size", "pictures")
    op.drop_index("ix_pictures_library_id_score", "pictures")
    saved = sa.text("(bytes_before - bytes_now)")
    op.create_index("ix_pictures_saved", "pictures", ["library_id", saved, "id"])
    op.create_index("ix_pictures_size", "pictures", ["library_id", "bytes_now", "id"])
    op.create_index("ix_pictures_library_id_score", "pictures", ["library_id", "score", "id"])
    # Searching in paths is quick with the trigram extension, and works without it.
    op.execute(
        "DO $$ BEGIN CREATE EXTENSION IF NOT EXISTS pg_trgm; "
        "CREATE INDEX ix_pictures_path_trgm ON pictures USING gin (path gin_trgm_ops); "
        "EXCEPTION WHEN OTHERS THEN RAISE NOTICE 'no trigram index: %', SQLERRM; END $$"
    )


#: What is counted of each table: the noun, the expression of its state, a condition, three sums.
_COUNTED = (
    ("files", "file", "state", "true", "0", "0", "0"),
    (
        "files",
        "lost",
        "''",
        "sha256 IS NOT NULL AND before_sha256 IS NULL AND state <> 'gone'",
        "0",
        "0",
        "0",
    ),
    ("pictures", "picture", "state", "true", "bytes_before", "bytes_now", "bytes_lightest"),
    ("copies", "copy", "kind", "true", "0", "size", "0"),
    ("backups", "backup", "''", "pruned_at IS NULL", "0", "size", "0"),
)


def _tallies() -> None:
    """Totals without counting: each statement that changes rows adds what it changed to a table of sums.

    Only additions, so that workers never wait for each other; the feeder folds them together.
    """
    op.create_table(
        "tallies",
        _library(),
        sa.Column("noun", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        *(_number(name) for name in ("rows", "bytes_before", "bytes_now", "bytes_lightest")),
    )
    op.create_index("ix_tallies_library_id", "tallies", ["library_id"])
    for table in ("files", "pictures", "copies", "backups"):
        counted = [one for one in _COUNTED if one[0] == table]
        for event, sources in (
            ("INSERT", [("fresh", "")]),
            ("UPDATE", [("former", "-"), ("fresh", "")]),
            ("DELETE", [("former", "-")]),
        ):
            parts = " UNION ALL ".join(
                f"SELECT library_id, '{noun}' AS noun, {state} AS state, {sign}1 AS n, {sign}({before}) AS b, "
                f"{sign}({now}) AS w, {sign}({lightest}) AS l FROM {source} WHERE {where}"
                for _, noun, state, where, before, now, lightest in counted
                for source, sign in sources
            )
            name = f"tally_{table}_{event.lower()}"
            op.execute(
                f"CREATE FUNCTION {name}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
                "INSERT INTO tallies SELECT library_id, noun, state, sum(n), sum(b), sum(w), sum(l) "
                f"FROM ({parts}) changes WHERE EXISTS (SELECT 1 FROM libraries WHERE id = library_id) "
                "GROUP BY 1, 2, 3 HAVING sum(n) <> 0 OR sum(b) <> 0 OR sum(w) <> 0 OR sum(l) <> 0; "
                "RETURN NULL; END $$"
            )
            tables = " ".join(
                f"{'NEW' if source == 'fresh' else 'OLD'} TABLE AS {source}" for source, _ in sources
            )
            op.execute(
                f"CREATE TRIGGER {name} AFTER {event} ON {table} REFERENCING {tables} "
                f"FOR EACH STATEMENT EXECUTE FUNCTION {name}()"
            )
        for _, noun, state, where, before, now, lightest in counted:
            op.execute(
                f"INSERT INTO tallies SELECT library_id, '{noun}', {state}, count(*), sum({before}), sum({now}), "
                f"sum({lightest}) FROM {table} WHERE {where} GROUP BY 1, 2, 3"
            )


def downgrade() -> None:
    raise RuntimeError("versions of recipes do not fit the former tables: restore a dump instead")
