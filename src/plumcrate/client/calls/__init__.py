"""Every request of the API as data, by what it is about: the one list from which both clients have their
methods."""

from .base import Call

__all__ = ["Call"]
