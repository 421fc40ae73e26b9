"""A library tells several webhooks, each what it chose; the secret with which a site signs is sealed too.

Revision ID: 0025
Revises: 0024
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

_NOTE = """
CREATE OR REPLACE FUNCTION note_purge(of_library bigint, of_path text, of_picture bigint) RETURNS void LANGUAGE sql AS $$
    INSERT INTO purges (library_id, path, picture_id, asked, attempts)
    SELECT of_library, of_path, of_picture, 1, 0 FROM libraries
    WHERE id = of_library AND (coalesce(delivery #> '{{caches,purge}}', '[]') <> '[]' OR {told})
    ON CONFLICT (library_id, path) DO UPDATE SET asked = purges.asked + 1, due_at = now(), attempts = 0
$$
"""
#: Named before the column was renamed.
_FORMER_NAME = "uq_outgoing_messages_mark"
_ONE = "webhook ->> 'address' IS NOT NULL AND webhook -> 'events' ? 'files.changed'"
_SEVERAL = """EXISTS (
        SELECT FROM webhooks
        WHERE webhooks.library_id = of_library AND events ? 'files.changed' AND stopped_at IS NULL
    )"""


def upgrade() -> None:
    op.create_table(
        "webhooks",
        sa.Column("id", sa.BigInteger, sa.Identity(always=True), primary_key=True),
        sa.Column(
            "library_id",
            sa.BigInteger,
            sa.ForeignKey("libraries.id", ondelete="CASCADE"),
            nullable=False,
            index=True,
        ),
        sa.Column("address", sa.Text, nullable=False),
        sa.Column("events", JSONB, nullable=False),
        sa.Column("secret", sa.LargeBinary),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.text("now()")),
        sa.Column("refused_since", sa.DateTime(timezone=True)),
        sa.Column("stopped_at", sa.DateTime(timezone=True)),
    )
    # What was told unless it was chosen otherwise, when settings left it out.
    op.execute("""
        INSERT INTO webhooks (library_id, address, events, secret)
        SELECT id, webhook ->> 'address',
            coalesce(webhook -> 'events',
                '["allowance.nearly-used", "allowance.used", "report.ready"]'),
            webhook_secret
        FROM libraries WHERE webhook ->> 'address' IS NOT NULL
    """)
    op.add_column(
        "outgoing_messages",
        sa.Column("webhook_id", sa.BigInteger, sa.ForeignKey("webhooks.id", ondelete="CASCADE")),
    )
    op.execute("""
        UPDATE outgoing_messages SET webhook_id = webhooks.id
        FROM webhooks WHERE webhooks.library_id = outgoing_messages.library_id
    """)
    op.execute("DELETE FROM outgoing_messages WHERE webhook_id IS NULL")
    op.alter_column("outgoing_messages", "webhook_id", nullable=False)
    op.drop_column("outgoing_messages", "library_id")
    op.drop_constraint(_FORMER_NAME, "outgoing_messages")
    op.create_unique_constraint(None, "outgoing_messages", ["webhook_id", "message_id"])
    op.create_index("ix_outgoing_messages_webhook_id_id", "outgoing_messages", ["webhook_id", "id"])
    op.execute(_NOTE.format(told=_SEVERAL))
    op.drop_column("libraries", "webhook")
    op.drop_column("libraries", "webhook_secret")
    op.execute("ALTER TABLE libraries ALTER hook_secret TYPE bytea USING convert_to(hook_secret, 'UTF8')")


def downgrade() -> None:
    op.add_column("libraries", sa.Column("webhook", JSONB, nullable=False, server_default="{}"))
    op.add_column("libraries", sa.Column("webhook_secret", sa.LargeBinary))
    # Of several the first stays; what is sealed cannot be opened here, and a new secret must be made.
    op.execute("""
        UPDATE libraries SET webhook = jsonb_build_object('address', address, 'events', events),
            webhook_secret = secret
        FROM (SELECT DISTINCT ON (library_id) * FROM webhooks ORDER BY library_id, id) AS first
        WHERE first.library_id = libraries.id
    """)
    op.execute("""
        ALTER TABLE libraries ALTER hook_secret TYPE text
        USING CASE WHEN starts_with(encode(hook_secret, 'escape'), 'whsec_')
            THEN convert_from(hook_secret, 'UTF8') END
    """)
    op.execute(_NOTE.format(told=_ONE))
    op.add_column(
        "outgoing_messages",
        sa.Column("library_id", sa.BigInteger, sa.ForeignKey("libraries.id", ondelete="CASCADE")),
    )
    op.execute("""
        DELETE FROM outgoing_messages AS later USING outgoing_messages AS first
        WHERE first.message_id = later.message_id AND first.id < later.id
    """)
    op.execute("""
        UPDATE outgoing_messages SET library_id = webhooks.library_id
        FROM webhooks WHERE webhooks.id = outgoing_messages.webhook_id
    """)
    op.alter_column("outgoing_messages", "library_id", nullable=False)
    op.drop_constraint("uq_outgoing_messages_webhook_id_message_id", "outgoing_messages")
    op.drop_column("outgoing_messages", "webhook_id")
    op.create_unique_constraint(_FORMER_NAME, "outgoing_messages", ["message_id"])
    op.create_index("ix_outgoing_messages_library_id_id", "outgoing_messages", ["library_id", "id"])
    op.drop_table("webhooks")
