"""A library whose webhook wants to hear of changed files has them noted, as one with caches has"""

from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

_NOTE = """
CREATE OR REPLACE FUNCTION note_purge(of_library bigint, of_path text, of_picture bigint) RETURNS void LANGUAGE sql AS $$
    INSERT INTO purges (library_id, path, picture_id, asked, attempts)
    SELECT of_library, of_path, of_picture, 1, 0 FROM libraries
    WHERE id = of_library AND ({wanted})
    ON CONFLICT (library_id, path) DO UPDATE SET asked = purges.asked + 1, due_at = now(), attempts = 0
$$
"""
_CACHES = "coalesce(delivery #> '{caches,purge}', '[]') <> '[]'"
_TOLD = "webhook ->> 'address' IS NOT NULL AND webhook -> 'events' ? 'files.changed'"


def upgrade() -> None:
    op.execute(_NOTE.format(wanted=f"{_CACHES} OR {_TOLD}"))


def downgrade() -> None:
    op.execute(_NOTE.format(wanted=_CACHES))
