"""Pages of the site, what they weigh, and the sizes that their places need"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def _id() -> "sa.Column[int]":
    return sa.Column("id", sa.BigInteger, sa.Identity(always=True), primary_key=True)


def _of(table: str, column: str, ondelete: str = "CASCADE", nullable: bool = False) -> "sa.Column[int]":
    return sa.Column(
        column, sa.BigInteger, sa.ForeignKey(f"{table}.id", ondelete=ondelete), nullable=nullable
    )


def _now(name: str) -> "sa.Column[Any]":
    return sa.Column(name, sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False)


def upgrade() -> None:
    op.create_table(
        "site_pages",
        _id(),
        _of("libraries", "library_id"),
        sa.Column("address", sa.Text, nullable=False),
        sa.Column("budget", JSONB),
        sa.Column("schedule", sa.Text),
        sa.Column("after_runs", sa.Boolean, nullable=False),
        sa.Column("secrets", sa.LargeBinary),
        sa.Column("next_at", sa.DateTime(timezone=True)),
        _now("created_at"),
        sa.UniqueConstraint("library_id", "address", name="uq_site_pages_library_id_address"),
    )
    op.create_table(
        "weighings",
        _id(),
        _of("libraries", "library_id"),
        _of("site_pages", "page_id"),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("what_if", JSONB),
        sa.Column("recipe_version", sa.BigInteger),
        sa.Column("origin", sa.Text, nullable=False),
        _of("runs", "run_id", "SET NULL", nullable=True),
        sa.Column("by", sa.Text, nullable=False),
        sa.Column("budget", JSONB),
        sa.Column("code", sa.Text),
        sa.Column("fault", sa.Text),
        sa.Column("report", JSONB, nullable=False),
        _now("at"),
    )
    op.create_index("ix_weighings_page_id_id", "weighings", ["page_id", "id"])
    op.create_table(
        "shots",
        _id(),
        _of("weighings", "weighing_id"),
        sa.Column("device", sa.Text, nullable=False),
        sa.Column("part", sa.Text, nullable=False),
        sa.Column("width", sa.BigInteger, nullable=False),
        sa.Column("height", sa.BigInteger, nullable=False),
        sa.Column("scale", sa.Float, nullable=False),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.create_index("ix_shots_weighing_id", "shots", ["weighing_id"])
    op.create_table(
        "needed_sizes",
        _id(),
        _of("libraries", "library_id"),
        _of("pictures", "picture_id"),
        sa.Column("width", sa.BigInteger, nullable=False),
        sa.Column("height", sa.BigInteger, nullable=False),
        sa.Column("page", sa.Text, nullable=False),
        _now("at"),
        sa.UniqueConstraint(
            "library_id",
            "picture_id",
            "width",
            "height",
            name="uq_needed_sizes_library_id_picture_id_width_height",
        ),
    )
    op.create_index("ix_needed_sizes_picture_id", "needed_sizes", ["picture_id"])
    # Of weighings several may wait: each is of other pages.
    op.drop_index("uq_jobs_open", "jobs")
    op.execute(
        "CREATE UNIQUE INDEX uq_jobs_open ON jobs (library_id, kind)"
        " WHERE state IN ('waiting', 'running') AND kind <> 'weighing'"
    )


def downgrade() -> None:
    op.execute("DELETE FROM jobs WHERE kind = 'weighing'")
    op.drop_index("uq_jobs_open", "jobs")
    op.execute(
        "CREATE UNIQUE INDEX uq_jobs_open ON jobs (library_id, kind) WHERE state IN ('waiting', 'running')"
    )
    for table in ("needed_sizes", "shots", "weighings", "site_pages"):
        op.drop_table(table)
