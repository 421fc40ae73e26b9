"""Derived files of any purpose, one table for long work, worst places, copies as a set of formats"""

import json
from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

JSON = postgresql.JSONB(astext_type=sa.Text())
TIME = sa.DateTime(timezone=True)
CONVERSION = "format IN ('jpeg', 'png')"


def upgrade() -> None:
    _derived()
    _results()
    _jobs()
    _recipes()
    _worst_places()


def _derived() -> None:
    for event in ("insert", "update", "delete"):
        op.execute(f"DROP FUNCTION tally_copies_{event} CASCADE")
    op.rename_table("copies", "derived")
    for former, now in (
        ("pk_copies", "pk_derived"),
        ("uq_copies_library_id_path", "uq_derived_library_id_path"),
        ("fk_copies_file_id", "fk_derived_file_id"),
        ("fk_copies_library_id", "fk_derived_library_id"),
    ):
        op.execute(f"ALTER TABLE derived RENAME CONSTRAINT {former} TO {now}")
    op.execute("ALTER INDEX ix_copies_file_id RENAME TO ix_derived_file_id")
    op.drop_constraint("uq_copies_file_id_kind", "derived")
    op.alter_column("derived", "kind", new_column_name="format")
    op.add_column("derived", sa.Column("purpose", sa.Text(), server_default="copy", nullable=False))
    op.alter_column("derived", "purpose", server_default=None)
    for name in ("width", "height"):
        op.add_column("derived", sa.Column(name, sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("derived", sa.Column("stands_in", sa.Boolean(), server_default="true", nullable=False))
    op.add_column("derived", sa.Column("spot", JSON, nullable=True))
    op.execute(
        f"UPDATE derived d SET purpose = CASE WHEN d.{CONVERSION} THEN 'conversion' ELSE 'copy' END, "
        "width = f.width, height = f.height FROM files f WHERE f.id = d.file_id"
    )
    op.create_unique_constraint(
        "uq_derived_file_id_purpose_format_width_height",
        "derived",
        ["file_id", "purpose", "format", "width", "height"],
    )
    _tally_derived()
    # What is under way keeps its payload in the words of before.
    op.execute(
        "UPDATE journal j SET detail = (detail - 'kind') || jsonb_build_object('format', detail->>'kind', "
        "'purpose', CASE WHEN detail->>'kind' IN ('jpeg', 'png') THEN 'conversion' ELSE 'copy' END, "
        "'width', coalesce((SELECT width FROM files f WHERE f.id = j.file_id), 0), "
        "'height', coalesce((SELECT height FROM files f WHERE f.id = j.file_id), 0)) WHERE action = 'copy'"
    )
    op.execute(
        "UPDATE journal SET detail = (detail - 'copy_id') || jsonb_build_object('derived_id', detail->'copy_id') "
        "WHERE action = 'drop-copy'"
    )


def _tally_derived() -> None:
    """The totals of copies, as of the other tables; see 0002."""
    for event, sources in (
        ("INSERT", [("fresh", "")]),
        ("UPDATE", [("former", "-"), ("fresh", "")]),
        ("DELETE", [("former", "-")]),
    ):
        parts = " UNION ALL ".join(
            f"SELECT library_id, 'copy' AS noun, format AS state, {sign}1 AS n, {sign}size AS w FROM {source}"
            for source, sign in sources
        )
        name = f"tally_derived_{event.lower()}"
        op.execute(
            f"CREATE FUNCTION {name}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
            "INSERT INTO tallies SELECT library_id, noun, state, sum(n), 0, sum(w), 0 "
            f"FROM ({parts}) changes WHERE EXISTS (SELECT 1 FROM libraries WHERE id = library_id) "
            "GROUP BY 1, 2, 3 HAVING sum(n) <> 0 OR sum(w) <> 0; RETURN NULL; END $$"
        )
        tables = " ".join(
            f"{'NEW' if source == 'fresh' else 'OLD'} TABLE AS {source}" for source, _ in sources
        )
        op.execute(
            f"CREATE TRIGGER {name} AFTER {event} ON derived REFERENCING {tables} "
            f"FOR EACH STATEMENT EXECUTE FUNCTION {name}()"
        )


def _results() -> None:
    op.alter_column("results", "kind", new_column_name="format", nullable=True)
    op.add_column("results", sa.Column("purpose", sa.Text(), server_default="file", nullable=False))
    op.alter_column("results", "purpose", server_default=None)
    op.execute(
        f"UPDATE results SET purpose = CASE WHEN {CONVERSION} THEN 'conversion' ELSE 'copy' END "
        "WHERE format <> 'file'"
    )
    op.execute("UPDATE results SET format = NULL WHERE format = 'file'")


def _jobs() -> None:
    op.create_table(
        "jobs",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), primary_key=True),
        sa.Column(
            "library_id",
            sa.BigInteger(),
            sa.ForeignKey("libraries.id", name="fk_jobs_library_id", ondelete="CASCADE"),
            nullable=False,
        ),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("request", JSON, nullable=False),
        sa.Column("report", JSON, nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("queued_id", sa.BigInteger(), nullable=True),
        sa.Column("created_at", TIME, server_default=sa.func.now(), nullable=False),
        sa.Column("started_at", TIME, nullable=True),
        sa.Column("finished_at", TIME, nullable=True),
    )
    op.create_index("ix_jobs_library_id", "jobs", ["library_id"])
    op.create_index(
        "uq_jobs_open",
        "jobs",
        ["library_id", "kind"],
        unique=True,
        postgresql_where=sa.text("state IN ('waiting', 'running')"),
    )
    counts = (
        "files_seen",
        "files_new",
        "files_changed",
        "files_gone",
        "files_unreadable",
        "pictures",
        "notes",
    )
    report = ", ".join(f"'{name}', {name}" for name in counts)
    op.execute(
        "INSERT INTO jobs (library_id, kind, state, reason, request, report, by, created_at, started_at, finished_at) "
        f"SELECT library_id, 'survey', state, reason, '{{}}', jsonb_build_object({report}), '', created_at, "
        "started_at, finished_at FROM surveys ORDER BY id"
    )
    compared = ("files", "copies", "backups", "differences", "mended", "findings")
    report = ", ".join(f"'{name}', {name}" for name in compared)
    op.execute(
        "INSERT INTO jobs (library_id, kind, state, reason, request, report, by, created_at, finished_at) "
        f"SELECT library_id, 'check', state, reason, jsonb_build_object('mend', mend), "
        f"jsonb_build_object({report}), '', created_at, finished_at FROM checks ORDER BY id"
    )
    op.execute(
        "INSERT INTO jobs (library_id, kind, state, reason, request, report, by, created_at, finished_at) "
        "SELECT library_id, 'forecast', state, reason, settings || jsonb_build_object('recipe_version', "
        "recipe_version), CASE WHEN result IS NULL THEN '{}' ELSE jsonb_build_object('outlook', result) END, "
        "by, created_at, finished_at FROM forecasts ORDER BY id"
    )
    op.execute(
        "UPDATE jobs SET state = 'failed', reason = 'ended by an update', finished_at = now() "
        "WHERE state IN ('waiting', 'running')"
    )
    for table in ("surveys", "checks", "forecasts"):
        op.drop_table(table)


def _recipes() -> None:
    connection = op.get_bind()
    op.add_column("runs", sa.Column("variants", JSON, server_default="[]", nullable=False))
    op.alter_column("runs", "variants", server_default=None)
    for table, column in (("recipes", "settings"), ("runs", "settings"), ("jobs", "request")):
        rows = connection.execute(
            sa.text(f"SELECT id, {column} FROM {table} WHERE {column} IS NOT NULL")
        ).all()
        for number, held in rows:
            changed = held | {"recipe": _settings(held["recipe"])} if "recipe" in held else _settings(held)
            connection.execute(
                sa.text(f"UPDATE {table} SET {column} = CAST(:held AS jsonb) WHERE id = :id"),
                {"held": json.dumps(changed), "id": number},
            )
    _keys("files", "recipe")
    op.execute(
        "UPDATE results SET made = made || jsonb_build_object('recipe', (made->'recipe') - 'webp' - 'avif' - "
        "'limits' || CASE WHEN (made->'recipe') ?| ARRAY['webp', 'avif'] THEN jsonb_build_object('copies', "
        f"{_COPIES.format(key='(made->%recipe%)')}) ELSE '{{}}' END) WHERE jsonb_typeof(made->'recipe') = 'object'".replace(
            "%", "'"
        )
    )


#: A key says ``false`` for a copy that was not wanted, and nothing for one that was.
_COPIES = (
    "CASE WHEN {key}->>'avif' = 'false' THEN '[]' ELSE '[\"avif\"]' END::jsonb || "
    "CASE WHEN {key}->>'webp' = 'false' THEN '[]' ELSE '[\"webp\"]' END::jsonb"
)


def _keys(table: str, column: str) -> None:
    """The keys by which a file counts as treated just so: formats as a set, and no limit of the machine."""
    op.execute(
        f"UPDATE {table} SET {column} = {column} - 'webp' - 'avif' - 'limits' || CASE WHEN {column} ?| "
        f"ARRAY['webp', 'avif'] THEN jsonb_build_object('copies', {_COPIES.format(key=column)}) ELSE '{{}}' END "
        f"WHERE {column} ?| ARRAY['webp', 'avif', 'limits']"
    )


def _settings(held: dict[str, Any]) -> dict[str, Any]:
    """Settings of a recipe with its copies as a set of formats."""
    wanted = [kind for kind in ("webp", "avif") if held.get(kind, True)]
    changed = {name: value for name, value in held.items() if name not in ("webp", "avif")}
    changed.setdefault("copies", wanted)
    # Metadata were all kept by those who said nothing; they are still.
    changed.setdefault("metadata", ["rights", "time", "place", "camera", "rest"])
    rules = []
    for rule in held.get("rules", []):
        how = dict(rule.get("how") or {})
        own = {kind: how.pop(kind, None) for kind in ("webp", "avif")}
        if any(value is not None for value in own.values()):
            how["copies"] = [
                kind for kind, value in own.items() if (value if value is not None else kind in wanted)
            ]
        rules.append(rule | {"how": how})
    return changed | {"rules": rules}


def _worst_places() -> None:
    op.add_column("workers", sa.Column("loops", JSON, server_default="{}", nullable=False))
    op.alter_column("workers", "loops", server_default=None)
    for name in ("most_pixels", "most_bytes"):
        op.add_column("workers", sa.Column(name, sa.BigInteger(), server_default="0", nullable=False))
    op.create_table(
        "left_stores",
        sa.Column("slug", sa.Text(), primary_key=True),
        sa.Column("left_at", TIME, server_default=sa.func.now(), nullable=False),
    )
    for table in ("files", "pictures"):
        op.add_column(table, sa.Column("worst", sa.Float(), nullable=True))
    op.add_column("files", sa.Column("spot", JSON, nullable=True))
    op.drop_index("ix_pictures_library_id_score", "pictures")
    op.create_index("ix_pictures_library_id_worst", "pictures", ["library_id", "worst", "id"])


def downgrade() -> None:
    raise RuntimeError("one table of jobs does not fit the former ones: restore a dump instead")
