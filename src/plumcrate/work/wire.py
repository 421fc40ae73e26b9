"""Treatments as plain JSON and runs of bytes, and back: nothing in them is ever executed."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from plumcrate.imaging import errors
from plumcrate.imaging.errors import ImagingError
from plumcrate.imaging.identification import MEDIA_TYPES, Facts
from plumcrate.imaging.outcome import VERDICTS, Output, Treatment, Tried

_ERRORS: dict[str, type[ImagingError]] = {
    kind.code: kind
    for kind in vars(errors).values()
    if isinstance(kind, type) and issubclass(kind, ImagingError)
}


class Nonsense(ValueError):
    """A child sent what no child of ours sends."""


def as_answer(treatment: Treatment) -> tuple[dict[str, Any], list[bytes]]:
    """A treatment's facts, and the bytes of its outputs in their order."""
    blobs: list[bytes] = []

    def plain(output: Output) -> dict[str, Any]:
        values = asdict(output) | {"tried": [[one.how, one.size, one.score] for one in output.tried]}
        if output.data is not None:
            blobs.append(output.data)
        return values | {"data": output.data is not None}

    head = {
        "facts": asdict(treatment.facts),
        "size": treatment.size,
        "main": plain(treatment.main),
        "copies": [plain(copy) for copy in treatment.copies],
        "conversions": [plain(one) for one in treatment.conversions],
    }
    return head, blobs


def as_treatment(head: dict[str, Any], blobs: list[bytes]) -> Treatment:
    """The way back. Raises :class:`Nonsense`."""
    left = list(blobs)

    def output(values: dict[str, Any]) -> Output:
        data = left.pop(0) if values["data"] else None
        if values["format"] not in MEDIA_TYPES or values["verdict"] not in VERDICTS:
            raise Nonsense("an output of no known format or verdict")
        size = int(values["size"])
        if (data is not None) != (values["verdict"] == "chosen") or (data is not None and len(data) != size):
            raise Nonsense("an output whose bytes are not what it says")
        return Output(
            values["format"], values["verdict"], data, size, _number(values["score"]), str(values["how"]),
            int(values["encodes"]),
            tuple(Tried(str(how), int(tried), _number(score)) for how, tried, score in values["tried"]),
        )  # fmt: skip

    try:
        facts = Facts(**head["facts"])
        main = output(head["main"])
        copies = tuple(output(values) for values in head["copies"])
        conversions = tuple(output(values) for values in head["conversions"])
    except (KeyError, TypeError, ValueError, IndexError) as error:
        raise Nonsense(f"an answer that makes no sense ({error})") from None
    return Treatment(facts, int(head["size"]), main, copies, conversions)


def as_error(head: dict[str, Any]) -> ImagingError:
    """The core's error that a child reports."""
    return _ERRORS.get(str(head["error"]), ImagingError)(str(head.get("message", ""))[:1000])


def _number(value: object) -> float | None:
    if value is None:
        return None
    if isinstance(value, int | float):
        return float(value)
    raise Nonsense("a score that is no number")
