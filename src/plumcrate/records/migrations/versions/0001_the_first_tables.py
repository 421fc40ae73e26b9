"""The first tables"""

from alembic import op
from procrastinate.schema import SchemaManager
import sqlalchemy as sa
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    # The queue's own tables, from the library that owns them.
    driver = op.get_bind().connection.driver_connection
    assert driver is not None
    driver.execute(SchemaManager.get_schema())
    op.create_table(
        "keys",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("secret_sha256", sa.LargeBinary(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("last_used_at", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_keys")),
        sa.UniqueConstraint("secret_sha256", name=op.f("uq_keys_secret_sha256")),
    )
    op.create_table(
        "libraries",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("slug", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("root", sa.Text(), nullable=False),
        sa.Column("level", sa.Text(), nullable=False),
        sa.Column("webp", sa.Boolean(), nullable=False),
        sa.Column("avif", sa.Boolean(), nullable=False),
        sa.Column("patterns", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_libraries")),
        sa.UniqueConstraint("root", name=op.f("uq_libraries_root")),
        sa.UniqueConstraint("slug", name=op.f("uq_libraries_slug")),
    )
    op.create_table(
        "people",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("email", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("password_hash", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_people")),
        sa.UniqueConstraint("email", name=op.f("uq_people_email")),
    )
    op.create_table(
        "backups",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("sha256", sa.LargeBinary(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_backups_library_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_backups")),
        sa.UniqueConstraint("library_id", "sha256", name=op.f("uq_backups_library_id_sha256")),
    )
    op.create_table(
        "ledger",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("picture_id", sa.BigInteger(), nullable=False),
        sa.Column("file_id", sa.BigInteger(), nullable=False),
        sa.Column("run_id", sa.BigInteger(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("action", sa.Text(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("before_sha256", sa.LargeBinary(), nullable=True),
        sa.Column("after_sha256", sa.LargeBinary(), nullable=True),
        sa.Column("bytes_before", sa.BigInteger(), nullable=True),
        sa.Column("bytes_after", sa.BigInteger(), nullable=True),
        sa.Column("score", sa.Double(), nullable=True),
        sa.Column("detail", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_ledger_library_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_ledger")),
    )
    op.create_index(op.f("ix_ledger_library_id"), "ledger", ["library_id"], unique=False)
    op.create_index(op.f("ix_ledger_picture_id"), "ledger", ["picture_id"], unique=False)
    op.create_table(
        "pictures",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("folder", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("format", sa.Text(), nullable=True),
        sa.Column("width", sa.BigInteger(), nullable=False),
        sa.Column("height", sa.BigInteger(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("original_id", sa.BigInteger(), nullable=True),
        sa.Column("files", sa.BigInteger(), nullable=False),
        sa.Column("bytes_before", sa.BigInteger(), nullable=False),
        sa.Column("bytes_now", sa.BigInteger(), nullable=False),
        sa.Column("bytes_lightest", sa.BigInteger(), nullable=False),
        sa.Column("score", sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_pictures_library_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_pictures")),
        sa.UniqueConstraint("library_id", "path", name=op.f("uq_pictures_library_id_path")),
    )
    op.create_index("ix_pictures_library_id_folder", "pictures", ["library_id", "folder"], unique=False)
    op.create_index("ix_pictures_library_id_score", "pictures", ["library_id", "score"], unique=False)
    op.create_index("ix_pictures_library_id_state", "pictures", ["library_id", "state"], unique=False)
    op.create_index(
        "ix_pictures_saved",
        "pictures",
        ["library_id", sa.literal_column("(bytes_before - bytes_now)")],
        unique=False,
    )
    op.create_index("ix_pictures_size", "pictures", ["library_id", "bytes_now"], unique=False)
    op.create_table(
        "runs",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("level", sa.Text(), nullable=True),
        sa.Column("webp", sa.Boolean(), nullable=False),
        sa.Column("avif", sa.Boolean(), nullable=False),
        sa.Column("scope", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("force", sa.Boolean(), nullable=False),
        sa.Column("priority", sa.BigInteger(), nullable=False),
        sa.Column("files", sa.BigInteger(), nullable=False),
        sa.Column("done", sa.BigInteger(), nullable=False),
        sa.Column("passed", sa.BigInteger(), nullable=False),
        sa.Column("failed", sa.BigInteger(), nullable=False),
        sa.Column("already", sa.BigInteger(), nullable=False),
        sa.Column("bytes_before", sa.BigInteger(), nullable=False),
        sa.Column("bytes_after", sa.BigInteger(), nullable=False),
        sa.Column("bytes_lightest", sa.BigInteger(), nullable=False),
        sa.Column("megapixels", sa.Double(), nullable=False),
        sa.Column("megapixels_done", sa.Double(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("finished_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_runs_library_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_runs")),
    )
    op.create_index(op.f("ix_runs_library_id"), "runs", ["library_id"], unique=False)
    op.create_index(
        "ix_runs_open",
        "runs",
        ["state"],
        unique=False,
        postgresql_where=sa.text("state IN ('running', 'paused')"),
    )
    op.create_table(
        "sessions",
        sa.Column("token_sha256", sa.LargeBinary(), nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["person_id"], ["people.id"], name=op.f("fk_sessions_person_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("token_sha256", name=op.f("pk_sessions")),
    )
    op.create_table(
        "surveys",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("files_seen", sa.BigInteger(), nullable=False),
        sa.Column("files_new", sa.BigInteger(), nullable=False),
        sa.Column("files_changed", sa.BigInteger(), nullable=False),
        sa.Column("files_gone", sa.BigInteger(), nullable=False),
        sa.Column("files_unreadable", sa.BigInteger(), nullable=False),
        sa.Column("pictures", sa.BigInteger(), nullable=False),
        sa.Column("notes", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("job_id", sa.BigInteger(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("finished_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_surveys_library_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_surveys")),
    )
    op.create_index(op.f("ix_surveys_library_id"), "surveys", ["library_id"], unique=False)
    op.create_index(
        "uq_surveys_open",
        "surveys",
        ["library_id"],
        unique=True,
        postgresql_where=sa.text("state IN ('waiting', 'running')"),
    )
    op.create_table(
        "files",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("picture_id", sa.BigInteger(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("format", sa.Text(), nullable=True),
        sa.Column("width", sa.BigInteger(), nullable=False),
        sa.Column("height", sa.BigInteger(), nullable=False),
        sa.Column("size_before", sa.BigInteger(), nullable=False),
        sa.Column("size_now", sa.BigInteger(), nullable=False),
        sa.Column("mtime_ns", sa.BigInteger(), nullable=False),
        sa.Column("mtime_ns_before", sa.BigInteger(), nullable=False),
        sa.Column("sha256", sa.LargeBinary(), nullable=True),
        sa.Column("before_sha256", sa.LargeBinary(), nullable=True),
        sa.Column("score", sa.Double(), nullable=True),
        sa.Column("level", sa.Text(), nullable=True),
        sa.Column("recipe", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("how", sa.Text(), nullable=True),
        sa.Column("treated_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_files_library_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["picture_id"], ["pictures.id"], name=op.f("fk_files_picture_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_files")),
        sa.UniqueConstraint("library_id", "path", name=op.f("uq_files_library_id_path")),
    )
    op.create_index(op.f("ix_files_picture_id"), "files", ["picture_id"], unique=False)
    op.create_table(
        "copies",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("file_id", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("sha256", sa.LargeBinary(), nullable=False),
        sa.Column("score", sa.Double(), nullable=True),
        sa.Column("how", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["file_id"], ["files.id"], name=op.f("fk_copies_file_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_copies_library_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_copies")),
        sa.UniqueConstraint("file_id", "kind", name=op.f("uq_copies_file_id_kind")),
        sa.UniqueConstraint("library_id", "path", name=op.f("uq_copies_library_id_path")),
    )
    op.create_index(op.f("ix_copies_file_id"), "copies", ["file_id"], unique=False)
    op.create_table(
        "journal",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("library_id", sa.BigInteger(), nullable=False),
        sa.Column("file_id", sa.BigInteger(), nullable=False),
        sa.Column("action", sa.Text(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("staged", sa.Text(), nullable=False),
        sa.Column("before_sha256", sa.LargeBinary(), nullable=True),
        sa.Column("after_sha256", sa.LargeBinary(), nullable=False),
        sa.Column("detail", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("opened_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["file_id"], ["files.id"], name=op.f("fk_journal_file_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["library_id"], ["libraries.id"], name=op.f("fk_journal_library_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_journal")),
    )
    op.create_index(op.f("ix_journal_file_id"), "journal", ["file_id"], unique=False)
    op.create_table(
        "run_items",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=True), nullable=False),
        sa.Column("run_id", sa.BigInteger(), nullable=False),
        sa.Column("picture_id", sa.BigInteger(), nullable=False),
        sa.Column("file_id", sa.BigInteger(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("code", sa.Text(), nullable=True),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("job_id", sa.BigInteger(), nullable=True),
        sa.Column("attempts", sa.BigInteger(), nullable=False),
        sa.Column("megapixels", sa.Double(), nullable=False),
        sa.Column("bytes_before", sa.BigInteger(), nullable=True),
        sa.Column("bytes_after", sa.BigInteger(), nullable=True),
        sa.Column("bytes_lightest", sa.BigInteger(), nullable=True),
        sa.Column("score", sa.Double(), nullable=True),
        sa.Column("outputs", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("finished_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["file_id"], ["files.id"], name=op.f("fk_run_items_file_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["run_id"], ["runs.id"], name=op.f("fk_run_items_run_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_run_items")),
        sa.UniqueConstraint("run_id", "file_id", name=op.f("uq_run_items_run_id_file_id")),
    )
    op.create_index(op.f("ix_run_items_file_id"), "run_items", ["file_id"], unique=False)
    op.create_index("ix_run_items_run_id_finished_at", "run_items", ["run_id", "finished_at"], unique=False)
    op.create_index("ix_run_items_run_id_picture_id", "run_items", ["run_id", "picture_id"], unique=False)
    op.create_index("ix_run_items_run_id_state", "run_items", ["run_id", "state", "id"], unique=False)


def downgrade() -> None:
    raise RuntimeError("the first tables are not taken away again: drop the database instead")
