"""Drawings (SVG) are treated: those that were left alone, because they are drawings, are new again"""

from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "UPDATE files SET state = 'new', reason = NULL, recipe = NULL "
        "WHERE format = 'svg' AND state = 'left-alone' AND treated_at IS NULL"
    )
    op.execute(
        "UPDATE pictures SET state = 'new', reason = NULL WHERE state = 'left-alone' "
        "AND id IN (SELECT picture_id FROM files WHERE format = 'svg' AND state = 'new')"
    )


def downgrade() -> None:
    """Whatever treats them next leaves them alone again."""
