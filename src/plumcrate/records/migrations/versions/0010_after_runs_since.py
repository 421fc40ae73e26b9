"""Since when a page is weighed after runs"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("site_pages", sa.Column("after_runs_since", sa.DateTime(timezone=True)))
    op.execute("UPDATE site_pages SET after_runs_since = now() WHERE after_runs")
    op.drop_column("site_pages", "after_runs")


def downgrade() -> None:
    op.add_column(
        "site_pages", sa.Column("after_runs", sa.Boolean, nullable=False, server_default=sa.false())
    )
    op.execute("UPDATE site_pages SET after_runs = after_runs_since IS NOT NULL")
    op.drop_column("site_pages", "after_runs_since")
