"""The routers, one for each noun. Models are built before routes ask for them: see :func:`build_models`."""

from plumcrate.contract.common import build_models

build_models()
