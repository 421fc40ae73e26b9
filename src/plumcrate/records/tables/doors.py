"""Who may do what, and who did."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Index, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from .base import Base, new_id, now


class Person(Base):
    """One who has an account. ``second_factor`` is sealed, and counts once ``second_factor_since`` is set;
    ``second_factor_step`` is the last time step of which a code was taken (RFC 6238): none is taken twice."""

    __tablename__ = "people"

    id: Mapped[int] = new_id()
    email: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    service: Mapped[bool] = mapped_column(default=False)
    suspended: Mapped[bool] = mapped_column(default=False)
    password_hash: Mapped[str]
    second_factor: Mapped[bytes | None]
    second_factor_since: Mapped[datetime | None]
    second_factor_step: Mapped[int] = mapped_column(default=0)
    signed_in_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = now()


class PersonGrant(Base):
    """A person's role in a library."""

    __tablename__ = "person_grants"

    person_id: Mapped[int] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), primary_key=True)
    library_id: Mapped[int] = mapped_column(
        ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    role: Mapped[str]


class RecoveryCode(Base):
    """Signs in once, in the second factor's place; only its hash is kept."""

    __tablename__ = "recovery_codes"

    person_id: Mapped[int] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), primary_key=True)
    code_sha256: Mapped[bytes] = mapped_column(primary_key=True)


class Invitation(Base):
    """A link that lets somebody in; only the hash of its token is kept. It goes when it is taken up."""

    __tablename__ = "invitations"

    id: Mapped[int] = new_id()
    token_sha256: Mapped[bytes] = mapped_column(unique=True)
    purpose: Mapped[str]
    email: Mapped[str]
    name: Mapped[str]
    service: Mapped[bool] = mapped_column(default=False)
    by: Mapped[str]
    created_at: Mapped[datetime] = now()
    expires_at: Mapped[datetime]


class InvitationGrant(Base):
    """A role in a library that an invitation gives."""

    __tablename__ = "invitation_grants"

    invitation_id: Mapped[int] = mapped_column(
        ForeignKey("invitations.id", ondelete="CASCADE"), primary_key=True
    )
    library_id: Mapped[int] = mapped_column(
        ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    role: Mapped[str]


class Session(Base):
    """A signed-in browser; only the hash of its token is kept."""

    __tablename__ = "sessions"

    id: Mapped[int] = new_id()
    token_sha256: Mapped[bytes] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"), index=True)
    address: Mapped[str] = mapped_column(default="")
    browser: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = now()
    seen_at: Mapped[datetime] = now()
    expires_at: Mapped[datetime]


class Key(Base):
    """A machine's key; only its hash is kept. ``all_libraries``: also those to come."""

    __tablename__ = "keys"

    id: Mapped[int] = new_id()
    name: Mapped[str]
    abilities: Mapped[list[str]]
    all_libraries: Mapped[bool] = mapped_column(default=False)
    service: Mapped[bool] = mapped_column(default=False)
    hint: Mapped[str] = mapped_column(default="")
    by: Mapped[str] = mapped_column(default="")
    secret_sha256: Mapped[bytes] = mapped_column(unique=True)
    replaces: Mapped[int | None]
    created_at: Mapped[datetime] = now()
    expires_at: Mapped[datetime | None]
    last_used_at: Mapped[datetime | None]
    last_used_from: Mapped[str | None]


class KeyGrant(Base):
    """A library that a key opens."""

    __tablename__ = "key_grants"

    key_id: Mapped[int] = mapped_column(ForeignKey("keys.id", ondelete="CASCADE"), primary_key=True)
    library_id: Mapped[int] = mapped_column(
        ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True, index=True
    )


class AuditRow(Base):
    """One act, for ever: the database refuses to change or delete a row. ``library`` is a short name, so
    that it outlives the library."""

    __tablename__ = "audit"

    id: Mapped[int] = new_id()
    at: Mapped[datetime] = mapped_column(server_default=text("clock_timestamp()"))
    actor: Mapped[str]
    kind: Mapped[str]
    email: Mapped[str | None]
    address: Mapped[str]
    library: Mapped[str | None]
    act: Mapped[str]
    target: Mapped[str]
    outcome: Mapped[str]
    detail: Mapped[str] = mapped_column(default="")

    __table_args__ = (Index("ix_audit_library_id", "library", "id"),)


class KeptAnswer(Base):
    """What was answered to a request with an ``Idempotency-Key``, sealed; for a day. ``actor``: a person or a
    key, by its number; ``asked_sha256``: of the whole request."""

    __tablename__ = "kept_answers"

    actor: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)
    asked_sha256: Mapped[bytes]
    status: Mapped[int]
    headers: Mapped[dict[str, str]] = mapped_column(JSONB)
    body: Mapped[bytes]
    created_at: Mapped[datetime] = mapped_column(index=True)
