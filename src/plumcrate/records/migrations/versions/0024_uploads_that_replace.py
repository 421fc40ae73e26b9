"""An upload in pieces may be meant to take a file's place.

Revision ID: 0024
Revises: 0023
"""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("resumable_uploads", sa.Column("replaces", sa.Text))


def downgrade() -> None:
    op.drop_column("resumable_uploads", "replaces")
