"""The words of the wire: what the service and its clients say to each other, as Pydantic models."""

from .common import Level, Page, Problem
from .libraries import Library, LibraryChange, LibraryRequest, Survey, SurveyState
from .people import Health, Key, KeyRequest, NewKey, Person, Role, SignIn
from .pictures import Copy, File, FileRole, FileState, LedgerEntry, Picture, PictureDetail, PictureSort
from .runs import (
    Item,
    ItemState,
    OutputReport,
    Run,
    RunKind,
    RunRequest,
    RunState,
    Scope,
)
from .savings import Savings, Slat

__all__ = [
    "Copy",
    "File",
    "FileRole",
    "FileState",
    "Health",
    "Item",
    "ItemState",
    "Key",
    "KeyRequest",
    "LedgerEntry",
    "Level",
    "Library",
    "LibraryChange",
    "LibraryRequest",
    "NewKey",
    "OutputReport",
    "Page",
    "Person",
    "Picture",
    "PictureDetail",
    "PictureSort",
    "Problem",
    "Role",
    "Run",
    "RunKind",
    "RunRequest",
    "RunState",
    "Savings",
    "Scope",
    "SignIn",
    "Slat",
    "Survey",
    "SurveyState",
]
