"""What caches are to be told, and what visitors were sent"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

#: Notes an address for the caches of its library, where it has any.
_NOTE = """
CREATE FUNCTION note_purge(of_library bigint, of_path text, of_picture bigint) RETURNS void LANGUAGE sql AS $$
    INSERT INTO purges (library_id, path, picture_id, asked, attempts)
    SELECT of_library, of_path, of_picture, 1, 0 FROM libraries
    WHERE id = of_library AND coalesce(delivery #> '{caches,purge}', '[]') <> '[]'
    ON CONFLICT (library_id, path) DO UPDATE SET asked = purges.asked + 1, due_at = now(), attempts = 0
$$
"""
_FILE = """
CREATE FUNCTION file_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM note_purge(NEW.library_id, OLD.path, NEW.picture_id);
    IF NEW.path <> OLD.path THEN
        PERFORM note_purge(NEW.library_id, NEW.path, NEW.picture_id);
    END IF;
    RETURN NULL;
END $$
"""
_DERIVED = """
CREATE FUNCTION derived_changed() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    derived_row derived := coalesce(NEW, OLD);
    whose files;
BEGIN
    SELECT * INTO whose FROM files WHERE id = derived_row.file_id;
    IF whose.id IS NOT NULL THEN
        PERFORM note_purge(derived_row.library_id, whose.path, whose.picture_id);
        PERFORM note_purge(derived_row.library_id, derived_row.path, whose.picture_id);
        PERFORM pg_notify(
            'plumcrate', json_build_object('served', whose.path, 'library', whose.library_id)::text
        );
    END IF;
    RETURN NULL;
END $$
"""


def _library() -> sa.ForeignKey:
    return sa.ForeignKey("libraries.id", ondelete="CASCADE")


def upgrade() -> None:
    op.create_table(
        "purges",
        sa.Column("id", sa.BigInteger, sa.Identity(always=True), primary_key=True),
        sa.Column("library_id", sa.BigInteger, _library(), nullable=False),
        sa.Column("path", sa.Text, nullable=False),
        sa.Column("picture_id", sa.BigInteger),
        sa.Column("asked", sa.BigInteger, nullable=False),
        sa.Column("attempts", sa.BigInteger, nullable=False),
        sa.Column("due_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("said", sa.Text),
        sa.UniqueConstraint("library_id", "path", name="uq_purges_library_id_path"),
    )
    op.create_index("ix_purges_due", "purges", ["due_at"])
    op.create_table(
        "sent_bytes",
        sa.Column("library_id", sa.BigInteger, _library(), primary_key=True),
        sa.Column("day", sa.Date, primary_key=True),
        sa.Column("picture_id", sa.BigInteger, primary_key=True, autoincrement=False),
        sa.Column("format", sa.Text, primary_key=True),
        sa.Column("bot", sa.Boolean, primary_key=True),
        sa.Column("requests", sa.BigInteger, nullable=False),
        sa.Column("bytes", sa.BigInteger, nullable=False),
        sa.Column("bytes_before", sa.BigInteger, nullable=False),
    )
    op.create_table(
        "counted_logs",
        sa.Column("library_id", sa.BigInteger, _library(), primary_key=True),
        sa.Column("log", sa.Text, primary_key=True),
        sa.Column("position", sa.BigInteger, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    for statement in (_NOTE, _FILE, _DERIVED):
        op.execute(statement)
    op.execute(
        "CREATE TRIGGER file_changed AFTER UPDATE ON files FOR EACH ROW WHEN (OLD.sha256 IS DISTINCT FROM"
        " NEW.sha256 OR OLD.state <> NEW.state OR OLD.path <> NEW.path OR OLD.mtime_ns <> NEW.mtime_ns)"
        " EXECUTE FUNCTION file_changed()"
    )
    op.execute(
        "CREATE TRIGGER derived_changed AFTER INSERT OR UPDATE OR DELETE ON derived FOR EACH ROW"
        " EXECUTE FUNCTION derived_changed()"
    )


def downgrade() -> None:
    op.execute("DROP TRIGGER derived_changed ON derived")
    op.execute("DROP TRIGGER file_changed ON files")
    for name in ("derived_changed()", "file_changed()", "note_purge(bigint, text, bigint)"):
        op.execute(f"DROP FUNCTION {name}")
    for table in ("counted_logs", "sent_bytes", "purges"):
        op.drop_table(table)
