"""What the core says when something that was asked for cannot be done as things are."""

from __future__ import annotations


class Refusal(Exception):
    """Nothing was done. ``code`` is stable, the text says what to do, ``more`` are facts for machines."""

    def __init__(self, code: str, text: str, **more: object) -> None:
        super().__init__(text)
        self.code, self.more = code, more
