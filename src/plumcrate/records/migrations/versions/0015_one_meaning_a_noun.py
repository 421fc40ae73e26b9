"""One meaning a noun: columns, a table and keys within JSON are called what they are"""

from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

#: Table, former name, name.
_COLUMNS = (
    ("files", "size", "size_name"),
    ("files", "spot", "worst_place"),
    ("files", "let_go", "removed_unused"),
    ("derived", "spot", "worst_place"),
    ("pictures", "own", "override"),
    ("libraries", "at_rest", "dormant"),
    ("libraries", "upkeep", "automation"),
    ("libraries", "mark", "identity"),
    ("libraries", "marked_at", "identified_at"),
    ("installation", "state_mark", "state_identity"),
    ("installation", "marked_at", "identified_at"),
    ("audit", "who", "actor"),
    ("allowance_notices", "mark", "threshold"),
    ("outgoing_messages", "mark", "message_id"),
)
#: Table, column of JSON, former key, key.
_KEYS = (
    ("files", "recipe", "mark", "watermark"),
    ("results", "made", "mark", "watermark"),
    ("runs", "variants", "mark", "watermark"),
    ("journal", "detail", "mark", "watermark"),
    ("journal", "detail", "spot", "worst_place"),
    ("run_items", "outputs", "spot", "worst_place"),
)


def upgrade() -> None:
    for table, former, name in _COLUMNS:
        op.alter_column(table, former, new_column_name=name)
    op.execute("ALTER INDEX ix_files_size RENAME TO ix_files_size_name")
    _rename_table("marks", "watermarks")
    for table, column, former, name in _KEYS:
        _rename_key(table, column, former, name)
    op.execute("UPDATE weighings SET kind = 'predicted' WHERE kind = 'foretold'")
    # Pages are rewritten without elements of ours, and without dimensions, until a person asks for them.
    op.execute("UPDATE libraries SET delivery = delivery #- '{markup,pictures}' #- '{markup,dimensions}'")


def downgrade() -> None:
    op.execute("UPDATE weighings SET kind = 'foretold' WHERE kind = 'predicted'")
    for table, column, former, name in _KEYS:
        _rename_key(table, column, name, former)
    _rename_table("watermarks", "marks")
    op.execute("ALTER INDEX ix_files_size_name RENAME TO ix_files_size")
    for table, former, name in _COLUMNS:
        op.alter_column(table, name, new_column_name=former)


def _rename_key(table: str, column: str, former: str, name: str) -> None:
    """Keys are renamed in the text: the same words do not stand in values of these columns."""
    op.execute(
        f"UPDATE {table} SET {column} = replace({column}::text, '\"{former}\":', '\"{name}\":')::jsonb "
        f"WHERE {column}::text LIKE '%\"{former}\":%'"
    )


def _rename_table(former: str, name: str) -> None:
    """With its keys, indexes and sequence, which are named after it."""
    op.rename_table(former, name)
    op.execute(
        f"""
        DO $$ DECLARE each record; BEGIN
            FOR each IN SELECT relname FROM pg_class WHERE relkind = 'i' AND relname ~ '(^|_){former}_' LOOP
                EXECUTE format('ALTER INDEX %I RENAME TO %I', each.relname,
                               regexp_replace(each.relname, '(^|_){former}_', '\\1{name}_'));
            END LOOP;
            FOR each IN SELECT relname FROM pg_class WHERE relkind = 'S' AND relname ~ '^{former}_' LOOP
                EXECUTE format('ALTER SEQUENCE %I RENAME TO %I', each.relname,
                               regexp_replace(each.relname, '^{former}_', '{name}_'));
            END LOOP;
            FOR each IN SELECT conname FROM pg_constraint WHERE conname ~ '(^|_){former}_' LOOP
                EXECUTE format('ALTER TABLE {name} RENAME CONSTRAINT %I TO %I', each.conname,
                               regexp_replace(each.conname, '(^|_){former}_', '\\1{name}_'));
            END LOOP;
        END $$
        """
    )
