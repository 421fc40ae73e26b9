"""What lies in a folder and below it."""

from __future__ import annotations

from sqlalchemy import ColumnElement, or_, true
from sqlalchemy.orm import InstrumentedAttribute


def below(column: InstrumentedAttribute[str], folder: str) -> ColumnElement[bool]:
    """Whether a folder column is a folder or lies under it."""
    folder = folder.strip("/")
    if not folder:
        return true()
    return or_(column == folder, column.startswith(folder + "/", autoescape=True))
