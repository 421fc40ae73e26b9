"""The service and the worker load nothing that only their children need, and build nothing when asked."""

import json
import subprocess
import sys

import pytest
from fastapi import FastAPI

from plumcrate.api.app import create_app
from plumcrate.api.openapi import built
from plumcrate.settings import Settings

HEAVY = (
    "numba",
    "numpy",
    "PIL",
    "fontTools",
    "fpdf",
    "pypdfium2",
    "matplotlib",
    "alembic",
    "playwright",
    "webp",
)
LOADED = """
import importlib, json, sys
importlib.import_module(sys.argv[1])
print(json.dumps(sorted({name.partition(".")[0] for name in sys.modules})))
"""


@pytest.mark.parametrize(
    ("module", "more"),
    [
        ("plumcrate.api.__main__", ()),
        ("plumcrate.worker.process", ("fastapi",)),
        ("plumcrate.client", ("sqlalchemy", "fastapi")),
        ("plumcrate.sandbox.forkserver", ("pydantic", "sqlalchemy")),
    ],
)
def test_parents_are_light(module: str, more: tuple[str, ...]) -> None:
    command = [sys.executable, "-c", LOADED, module]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    assert not {*HEAVY, *more} & set(json.loads(done.stdout))


def test_the_interfaces_description_is_kept_and_is_what_would_be_built() -> None:
    app = create_app(Settings(database_url="postgresql://nobody@127.0.0.1/nothing"))
    kept = app.openapi()
    assert kept is app.openapi(), "read once"
    assert isinstance(app, FastAPI)
    assert kept == json.loads(json.dumps(built(app))), "script/types writes it anew"
