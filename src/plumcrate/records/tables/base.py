"""What all tables share."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Boolean, DateTime, Identity, LargeBinary, MetaData, Text, func
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {  # noqa: RUF012
        int: BigInteger,
        str: Text,
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB(none_as_null=True),
        list[str]: JSONB(none_as_null=True),
        list[Any]: JSONB(none_as_null=True),
        bytes: LargeBinary,
        bool: Boolean,
    }


def new_id() -> Mapped[int]:
    return mapped_column(BigInteger, Identity(always=True), primary_key=True)


def now() -> Mapped[datetime]:
    return mapped_column(server_default=func.now())
