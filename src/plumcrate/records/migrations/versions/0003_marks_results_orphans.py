"""Marks of libraries and of the state folder, results known by content, backups that lost their file"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

JSON = postgresql.JSONB(astext_type=sa.Text())
TIME = sa.DateTime(timezone=True)
OPEN = sa.text("state IN ('waiting', 'running')")


def _add(table: str, name: str, kind: "sa.types.TypeEngine[Any]", default: str | None = None) -> None:
    column = sa.Column(name, kind, server_default=default, nullable=default is None)
    op.add_column(table, column)


def upgrade() -> None:
    op.add_column(
        "libraries",
        sa.Column("mark", sa.Text(), server_default=sa.text("gen_random_uuid()::text"), nullable=False),
    )
    _add("libraries", "marked_at", TIME)
    _add("libraries", "device", sa.Text())
    _add("libraries", "at_rest", sa.Boolean(), "false")
    _add("libraries", "days_seen", sa.BigInteger(), "0")
    _add("libraries", "day_seen", sa.Date())
    op.create_table(
        "installation",
        sa.Column("id", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("state_mark", sa.Text(), nullable=False),
        sa.Column("marked_at", TIME, nullable=True),
    )
    _add("files", "held", sa.Boolean(), "false")
    op.create_index("ix_files_original", "files", ["library_id", "before_sha256"])
    for name in ("file_id", "after_sha256"):
        op.alter_column("journal", name, nullable=True)
    op.execute("UPDATE journal SET after_sha256 = NULL WHERE after_sha256 = ''")
    # A copy whose going was under way had no hidden name to go by: it is as if nothing had been begun,
    # and should the copy be gone the next survey notices.
    op.execute("DELETE FROM journal WHERE action = 'drop-copy'")
    _add("journal", "due_at", TIME)
    for name in ("picture_id", "file_id"):
        op.alter_column("ledger", name, nullable=True)
    _add("backups", "path", sa.Text(), "")
    _add("backups", "seen_at", TIME)
    _add("backups", "born_day", sa.BigInteger(), "0")
    op.create_index("ix_backups_size", "backups", ["library_id", "size"])
    op.execute(
        "UPDATE backups b SET path = f.path FROM files f "
        "WHERE f.library_id = b.library_id AND f.before_sha256 = b.sha256"
    )
    # A backup that no file claims was the original of a file that was put back since.
    op.execute(
        "UPDATE backups b SET seen_at = now() WHERE NOT EXISTS (SELECT 1 FROM files f "
        "WHERE f.library_id = b.library_id AND f.before_sha256 = b.sha256) AND EXISTS (SELECT 1 FROM ledger l "
        "WHERE l.library_id = b.library_id AND l.after_sha256 = b.sha256 AND l.action IN ('restore', 'put-back'))"
    )
    _results()
    _add("forecasts", "by", sa.Text(), "")
    for table in ("checks", "forecasts"):
        op.execute(
            f"UPDATE {table} SET state = 'failed', reason = 'ended by an update', finished_at = now() "
            "WHERE state IN ('waiting', 'running')"
        )
        op.create_index(f"uq_{table}_open", table, ["library_id"], unique=True, postgresql_where=OPEN)


def _results() -> None:
    """What was made so far, from the files and copies as they stand and from the ledger."""
    op.create_table(
        "results",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), primary_key=True),
        sa.Column(
            "library_id", sa.BigInteger(), sa.ForeignKey("libraries.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("sha256", sa.LargeBinary(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("original_sha256", sa.LargeBinary(), nullable=True),
        sa.Column("made", JSON, server_default="{}", nullable=False),
        sa.UniqueConstraint("library_id", "sha256", name="uq_results_library_id_sha256"),
    )
    op.create_index("ix_results_size", "results", ["library_id", "size"])
    op.execute(
        "INSERT INTO results (library_id, sha256, size, kind, original_sha256, made) "
        "SELECT library_id, sha256, size_now, 'file', before_sha256, jsonb_build_object('level', level, "
        "'recipe', recipe, 'score', score, 'how', how) FROM files WHERE sha256 IS NOT NULL "
        "AND state <> 'removed' ON CONFLICT DO NOTHING"
    )
    op.execute(
        "INSERT INTO results (library_id, sha256, size, kind, original_sha256, made) "
        "SELECT c.library_id, c.sha256, c.size, c.kind, f.before_sha256, '{}' FROM copies c "
        "JOIN files f ON f.id = c.file_id ON CONFLICT DO NOTHING"
    )
    op.execute(
        "INSERT INTO results (library_id, sha256, size, kind, original_sha256, made) "
        "SELECT DISTINCT ON (library_id, after_sha256) library_id, after_sha256, bytes_after, 'file', "
        "before_sha256, '{}' FROM ledger WHERE action = 'replace' AND after_sha256 IS NOT NULL "
        "AND bytes_after IS NOT NULL ORDER BY library_id, after_sha256, id ON CONFLICT DO NOTHING"
    )


def downgrade() -> None:
    raise RuntimeError("what is known of moved files does not fit the former tables: restore a dump instead")
