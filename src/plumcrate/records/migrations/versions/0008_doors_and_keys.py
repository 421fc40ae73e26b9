"""People's roles in libraries, invitations, second factors, keys of few libraries, the audit log"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def _id() -> "sa.Column[int]":
    return sa.Column("id", sa.BigInteger, sa.Identity(always=True), primary_key=True)


def _part(table: str, column: str) -> "sa.Column[int]":
    reference = sa.ForeignKey(f"{table}.id", ondelete="CASCADE")
    return sa.Column(column, sa.BigInteger, reference, primary_key=True)


def _text(name: str, **more: Any) -> "sa.Column[str]":
    return sa.Column(name, sa.Text, **{"nullable": False, **more})


def _flag(name: str) -> "sa.Column[bool]":
    return sa.Column(name, sa.Boolean, nullable=False, server_default=sa.false())


def _time(name: str, **more: Any) -> "sa.Column[Any]":
    return sa.Column(name, sa.DateTime(timezone=True), **more)


def upgrade() -> None:
    for column in (
        _flag("service"),
        _flag("suspended"),
        sa.Column("second_factor", sa.LargeBinary),
        _time("second_factor_since"),
        sa.Column("second_factor_step", sa.BigInteger, nullable=False, server_default="0"),
        _time("signed_in_at"),
    ):
        op.add_column("people", column)
    op.create_table(
        "person_grants", _part("people", "person_id"), _part("libraries", "library_id"), _text("role")
    )
    op.create_index("ix_person_grants_library_id", "person_grants", ["library_id"])
    # Who administered, administered everything; the others saw every library there was.
    op.execute("UPDATE people SET service = true WHERE role = 'administer'")
    op.execute(
        "INSERT INTO person_grants (person_id, library_id, role)"
        " SELECT people.id, libraries.id, people.role FROM people, libraries WHERE NOT people.service"
    )
    op.drop_column("people", "role")
    op.create_table(
        "recovery_codes",
        _part("people", "person_id"),
        sa.Column("code_sha256", sa.LargeBinary, primary_key=True),
    )
    op.create_table(
        "invitations",
        _id(),
        sa.Column("token_sha256", sa.LargeBinary, nullable=False),
        _text("purpose"),
        _text("email"),
        _text("name"),
        _flag("service"),
        _text("by"),
        _time("created_at", server_default=sa.func.now(), nullable=False),
        _time("expires_at", nullable=False),
        sa.UniqueConstraint("token_sha256", name="uq_invitations_token_sha256"),
    )
    op.create_table(
        "invitation_grants",
        _part("invitations", "invitation_id"),
        _part("libraries", "library_id"),
        _text("role"),
    )
    op.create_index("ix_invitation_grants_library_id", "invitation_grants", ["library_id"])

    # Whoever is signed in signs in anew: of those sessions nobody knows whose browser they are.
    op.drop_table("sessions")
    op.create_table(
        "sessions",
        _id(),
        sa.Column("token_sha256", sa.LargeBinary, nullable=False),
        sa.Column("person_id", sa.BigInteger, sa.ForeignKey("people.id", ondelete="CASCADE"), nullable=False),
        _text("address"),
        _text("browser"),
        _time("created_at", server_default=sa.func.now(), nullable=False),
        _time("seen_at", server_default=sa.func.now(), nullable=False),
        _time("expires_at", nullable=False),
        sa.UniqueConstraint("token_sha256", name="uq_sessions_token_sha256"),
    )
    op.create_index("ix_sessions_person_id", "sessions", ["person_id"])

    # Keys stay as they were: in all libraries, with what their role meant.
    for column in (
        sa.Column("abilities", JSONB),
        sa.Column("all_libraries", sa.Boolean, nullable=False, server_default=sa.true()),
        _flag("service"),
        _text("hint", server_default=""),
        _text("by", server_default=""),
        sa.Column("replaces", sa.BigInteger),
        _time("expires_at"),
        sa.Column("last_used_from", sa.Text),
    ):
        op.add_column("keys", column)
    op.execute("UPDATE keys SET service = role = 'administer'")
    abilities = {
        "look": '["look"]',
        "treat": '["look", "mend", "upload", "treat"]',
        "administer": '["look", "mend", "upload", "treat", "administer"]',
    }
    for role, held in abilities.items():
        op.execute(f"UPDATE keys SET abilities = '{held}'::jsonb WHERE role = '{role}'")
    op.alter_column("keys", "abilities", nullable=False)
    op.drop_column("keys", "role")
    op.create_table("key_grants", _part("keys", "key_id"), _part("libraries", "library_id"))
    op.create_index("ix_key_grants_library_id", "key_grants", ["library_id"])

    op.create_table(
        "audit",
        _id(),
        _time("at", server_default=sa.text("clock_timestamp()"), nullable=False),
        _text("who"),
        _text("kind"),
        _text("email", nullable=True),
        _text("address"),
        _text("library", nullable=True),
        _text("act"),
        _text("target"),
        _text("outcome"),
        _text("detail"),
    )
    op.create_index("ix_audit_library_id", "audit", ["library", "id"])
    op.execute(
        "CREATE FUNCTION audit_stays() RETURNS trigger LANGUAGE plpgsql AS"
        " $$ BEGIN RAISE EXCEPTION 'the audit log is only added to'; END $$"
    )
    op.execute(
        "CREATE TRIGGER audit_stays BEFORE UPDATE OR DELETE ON audit"
        " FOR EACH ROW EXECUTE FUNCTION audit_stays()"
    )
    op.execute(
        "CREATE TRIGGER audit_stays_whole BEFORE TRUNCATE ON audit"
        " FOR EACH STATEMENT EXECUTE FUNCTION audit_stays()"
    )


def downgrade() -> None:
    op.drop_table("audit")
    op.execute("DROP FUNCTION audit_stays")
    op.drop_table("key_grants")
    op.add_column("keys", sa.Column("role", sa.Text, nullable=False, server_default="look"))
    op.execute("UPDATE keys SET role = 'administer' WHERE service")
    op.execute("UPDATE keys SET role = 'treat' WHERE NOT service AND abilities ? 'treat'")
    # A key of few libraries would open them all.
    op.execute("DELETE FROM keys WHERE NOT all_libraries")
    for name in (
        "abilities",
        "all_libraries",
        "service",
        "hint",
        "by",
        "replaces",
        "expires_at",
        "last_used_from",
    ):
        op.drop_column("keys", name)
    op.drop_table("sessions")
    op.create_table(
        "sessions",
        sa.Column("token_sha256", sa.LargeBinary, primary_key=True),
        sa.Column("person_id", sa.BigInteger, sa.ForeignKey("people.id", ondelete="CASCADE"), nullable=False),
        _time("expires_at", nullable=False),
    )
    op.drop_table("invitation_grants")
    op.drop_table("invitations")
    op.drop_table("recovery_codes")
    op.add_column("people", sa.Column("role", sa.Text, nullable=False, server_default="look"))
    # Who may not see all may see none.
    op.execute("DELETE FROM people WHERE NOT service")
    op.execute("UPDATE people SET role = 'administer'")
    op.drop_table("person_grants")
    for name in (
        "service",
        "suspended",
        "second_factor",
        "second_factor_since",
        "second_factor_step",
        "signed_in_at",
    ):
        op.drop_column("people", name)
