"""What clients rely on of the interface. `python tests/api/released.py` writes it down for a release."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

PLACE = Path(__file__).with_name("released.json")
Facts = dict[str, dict[str, list[str]]]
_DEPTH = 4


def facts(document: dict[str, Any]) -> Facts:
    """By operation: parameters, those that are required, fields that a request may and must have, and the
    fields of each good answer."""
    schemas = document["components"]["schemas"]
    found: Facts = {}
    for path, operations in document["paths"].items():
        for method, operation in operations.items():
            parameters = operation.get("parameters", [])
            body = _json(operation.get("requestBody", {}))
            answers = {
                status: _json(answer) for status, answer in operation["responses"].items() if status < "3"
            }
            found[f"{method.upper()} {path}"] = {
                "parameters": sorted(f"{one['in']} {one['name']}" for one in parameters),
                "required parameters": sorted(
                    f"{one['in']} {one['name']}" for one in parameters if one.get("required")
                ),
                "fields": sorted(_fields(body, schemas, required=False)),
                "required fields": sorted(_fields(body, schemas, required=True)),
                "answers": sorted(
                    f"{status} {field}".strip()
                    for status, answer in answers.items()
                    for field in ["", *_fields(answer, schemas, required=False)]
                ),
            }
    return found


def breaks(before: Facts, now: Facts) -> list[str]:
    """What a client that knew the interface before can no longer do."""
    faults = [f"{operation} is gone" for operation in before.keys() - now.keys()]
    for operation in before.keys() & now.keys():
        old, new = before[operation], now[operation]
        for kind in ("parameters", "fields", "answers"):
            faults += [f"{operation}: {kind}: {one} is gone" for one in set(old[kind]) - set(new[kind])]
        for kind in ("required parameters", "required fields"):
            faults += [f"{operation}: {kind}: {one} is new" for one in set(new[kind]) - set(old[kind])]
    return sorted(faults)


def _json(holder: dict[str, Any]) -> dict[str, Any]:
    schema: dict[str, Any] = holder.get("content", {}).get("application/json", {}).get("schema", {})
    return schema


def _fields(
    schema: dict[str, Any], schemas: dict[str, Any], *, required: bool, depth: int = _DEPTH
) -> set[str]:
    if depth == 0:
        return set()
    if "$ref" in schema:
        return _fields(schemas[schema["$ref"].rpartition("/")[2]], schemas, required=required, depth=depth)
    found: set[str] = set()
    for choice in (*schema.get("anyOf", ()), *schema.get("oneOf", ()), *schema.get("allOf", ())):
        found |= _fields(choice, schemas, required=required, depth=depth)
    if "items" in schema:
        found |= {f"[]{one}" for one in _fields(schema["items"], schemas, required=required, depth=depth)}
    for name, below in schema.get("properties", {}).items():
        if required and name not in schema.get("required", ()):
            continue
        found.add(f".{name}")
        found |= {f".{name}{one}" for one in _fields(below, schemas, required=required, depth=depth - 1)}
    return found


if __name__ == "__main__":
    from plumcrate.api.openapi import kept

    PLACE.write_text(json.dumps(facts(kept()), indent=0, sort_keys=True) + "\n")
