"""Treatments as plain JSON and runs of bytes, and back: nothing in them is ever executed."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any, get_args

from plumcrate.imaging import errors
from plumcrate.imaging.errors import ImagingError
from plumcrate.imaging.formats import FORMATS
from plumcrate.imaging.identification import Facts
from plumcrate.imaging.outcome import VERDICTS, Chosen, Output, Refused, Role, Treatment, Tried, WorstPlace

_ERRORS: dict[str, type[ImagingError]] = {
    kind.code: kind
    for kind in vars(errors).values()
    if isinstance(kind, type) and issubclass(kind, ImagingError)
}


class Nonsense(ValueError):
    """A child sent what no child of ours sends."""


def as_answer(treatment: Treatment) -> tuple[dict[str, Any], list[bytes]]:
    """A treatment's facts, and the bytes of its chosen outputs in their order."""
    head = {
        "facts": asdict(treatment.facts),
        "size": treatment.size,
        "outputs": [_plain(output) for output in treatment.outputs],
    }
    return head, [output.data for output in treatment.chosen]


def _plain(output: Output) -> dict[str, Any]:
    values = asdict(replace(output, data=b"")) if isinstance(output, Chosen) else asdict(output)
    values.pop("data", None)
    values["tried"] = [[tried.how, tried.size, tried.score] for tried in output.tried]
    if output.worst_place is not None:
        values["worst_place"]["lost"] = output.worst_place.lost.hex()
    return values


def as_treatment(head: dict[str, Any], blobs: list[bytes]) -> Treatment:
    """The way back. Raises :class:`Nonsense`."""
    left = list(blobs)
    try:
        facts = Facts(**head["facts"])
        outputs = tuple(_output(values, left) for values in head["outputs"])
        if [output.role for output in outputs].count("file") > 1 or left:
            raise Nonsense("outputs that make no treatment")
        return Treatment(facts, int(head["size"]), outputs)
    except (KeyError, TypeError, ValueError, IndexError, AttributeError) as error:
        raise Nonsense(f"an answer that makes no sense ({error})") from None


def _output(values: dict[str, Any], blobs: list[bytes]) -> Output:
    verdict = values.get("verdict")
    if values["format"] not in FORMATS or values["role"] not in get_args(Role):
        raise Nonsense("an output of no known format or role")
    if verdict is not None and verdict not in VERDICTS:
        raise Nonsense("an output of no known verdict")
    common: dict[str, Any] = {
        "format": values["format"],
        "role": values["role"],
        "size": int(values["size"]),
        "score": _number(values["score"]),
        "worst_place": _worst_place(values["worst_place"]),
        "how": str(values["how"]),
        "encodes": int(values["encodes"]),
        "step": None if values["step"] is None else int(values["step"]),
        "tried": tuple(Tried(str(how), int(tried), _number(score)) for how, tried, score in values["tried"]),
    }
    if verdict is not None:
        return Refused(**common, verdict=verdict)
    data = blobs.pop(0)
    if len(data) != common["size"]:
        raise Nonsense("an output whose bytes are not what it says")
    return Chosen(**common, data=data)


def _worst_place(values: dict[str, Any] | None) -> WorstPlace | None:
    if values is None:
        return None
    score, left, top = (float(values[name]) for name in ("score", "left", "top"))
    columns, lost = int(values["columns"]), bytes.fromhex(values["lost"])
    if not (0 <= left <= 1 and 0 <= top <= 1 and columns > 0 and lost and len(lost) % columns == 0):
        raise Nonsense("a worst place that is none")
    return WorstPlace(score, left, top, columns, lost)


def as_error(head: dict[str, Any]) -> ImagingError:
    """The core's error that a child reports."""
    return _ERRORS.get(str(head["error"]), ImagingError)(str(head.get("message", ""))[:1000])


def _number(value: object) -> float | None:
    if value is None:
        return None
    if isinstance(value, int | float):
        return float(value)
    raise Nonsense("a score that is no number")
