"""What pictures say to those who do not see them"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None

_NOW = sa.text("now()")


def _library() -> sa.Column[int]:
    return sa.Column(
        "library_id", sa.BigInteger, sa.ForeignKey("libraries.id", ondelete="CASCADE"), nullable=False
    )


def _of(table: str, name: str, **more: Any) -> sa.Column[int]:
    key = sa.ForeignKey(f"{table}.id", ondelete="CASCADE")
    return sa.Column(name, sa.BigInteger, key, nullable=False, **more)


def _text(name: str, **more: Any) -> sa.Column[str]:
    return sa.Column(name, sa.Text, nullable=False, **more)


def upgrade() -> None:
    op.add_column(
        "libraries", sa.Column("descriptions", JSONB, nullable=False, server_default=sa.text("'{}'::jsonb"))
    )
    op.create_table(
        "descriptions",
        _of("pictures", "picture_id", primary_key=True),
        _text("language", primary_key=True),
        _library(),
        *(_text(name) for name in ("alternative", "title", "caption", "credit")),
        sa.Column("decorative", sa.Boolean, nullable=False),
        sa.Column("fold", sa.Text),
        sa.Column("faults", ARRAY(sa.Text), nullable=False, server_default=sa.text("'{}'")),
        sa.Column("version", sa.BigInteger, nullable=False),
        _text("by"),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=_NOW),
    )
    op.create_index("ix_descriptions_fold", "descriptions", ["library_id", "language", "fold"])
    op.create_table(
        "description_changes",
        sa.Column("id", sa.BigInteger, sa.Identity(always=True), primary_key=True),
        _library(),
        _text("language"),
        _text("what"),
        sa.Column("pictures", sa.BigInteger, nullable=False),
        _text("by"),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=_NOW),
        sa.Column("undone_at", sa.DateTime(timezone=True)),
    )
    op.create_index("ix_description_changes_library_id", "description_changes", ["library_id"])
    op.create_table(
        "changed_descriptions",
        _of("description_changes", "change_id", primary_key=True),
        _of("pictures", "picture_id", primary_key=True),
        sa.Column("before", JSONB, nullable=False),
        sa.Column("after", JSONB, nullable=False),
    )
    op.create_index("ix_changed_descriptions_picture_id", "changed_descriptions", ["picture_id"])
    op.create_table(
        "embedded_texts",
        _of("pictures", "picture_id", primary_key=True),
        _library(),
        sa.Column("texts", JSONB, nullable=False),
        sa.Column("mtime_ns", sa.BigInteger, nullable=False),
        sa.Column("size", sa.BigInteger, nullable=False),
    )
    op.create_index("ix_embedded_texts_library_id", "embedded_texts", ["library_id"])
    op.create_table(
        "page_uses",
        _of("site_pages", "page_id", primary_key=True),
        _of("pictures", "picture_id", primary_key=True),
        sa.Column("number", sa.BigInteger, primary_key=True),
        _library(),
        _text("language"),
        sa.Column("alternative", sa.Text),
        *(_text(name) for name in ("heading", "caption", "link")),
    )
    op.create_index("ix_page_uses_library_id", "page_uses", ["library_id"])
    op.create_index("ix_page_uses_picture_id", "page_uses", ["picture_id"])
    op.create_table(
        "search_terms",
        _of("libraries", "library_id", primary_key=True),
        _text("term", primary_key=True),
        sa.Column("count", sa.BigInteger, nullable=False),
        sa.Column("words", ARRAY(sa.Text), nullable=False),
    )
    op.create_index("ix_search_terms_words", "search_terms", ["words"], postgresql_using="gin")


def downgrade() -> None:
    for table in (
        "search_terms",
        "page_uses",
        "embedded_texts",
        "changed_descriptions",
        "description_changes",
        "descriptions",
    ):
        op.drop_table(table)
    op.drop_column("libraries", "descriptions")
