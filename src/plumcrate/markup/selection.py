"""What of a page is left as it is: by page, class, file and ending."""

from __future__ import annotations

from plumcrate.contract.delivery import Markup

from .globs import glob

#: Where others load pictures by script, the picture that is shown is in attributes that begin so.
_OTHERS = ("data-src", "data-srcset", "data-lazy", "data-original", "data-bg")


def page_left_out(rules: Markup, path: str) -> bool:
    """Whether a page stays as it is, by its path on the site."""
    return any(glob(pattern.lstrip("/")).matches(path.lstrip("/")) for pattern in rules.no_pages)


def file_left_out(rules: Markup, path: str) -> bool:
    """Whether a file of the library stays as it is."""
    ending = path.rpartition(".")[2].lower()
    if ending in (wanted.lower() for wanted in rules.no_endings):
        return True
    return any(glob(pattern).matches(path) for pattern in rules.no_files)


def loads_at_once(rules: Markup, path: str) -> bool:
    return any(glob(pattern).matches(path) for pattern in rules.eager_files)


def class_left_out(rules: Markup, classes: str) -> bool:
    return not set(rules.no_classes).isdisjoint(classes.split())


def loaded_by_others(names: set[str]) -> bool:
    """Whether a script of the page loads this picture, by the names of its attributes."""
    return any(name.startswith(_OTHERS) for name in names)
