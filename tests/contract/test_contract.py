"""Requests are strict, answers are tolerant, and the words are the same everywhere."""

from typing import get_args

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import BaseModel, TypeAdapter, ValidationError

from plumcrate.contract.automation import Automation, Uploaded
from plumcrate.contract.care import Backups, Machine, Orphan, PutBackRequest, ReattachRequest
from plumcrate.contract.common import Answer, CopyFormat, Message
from plumcrate.contract.common import Level as LevelView
from plumcrate.contract.jobs import CheckRequest, ForecastRequest, Job, JobKind, PruneRequest, report_of
from plumcrate.contract.libraries import Library, LibraryChange, LibraryRequest
from plumcrate.contract.people import Health, KeyRequest, SignIn
from plumcrate.contract.pictures import Derived, File, Format, OverrideRequest, Picture, Purpose, WorstPlace
from plumcrate.contract.recipes import Effect, FilePlan, FixedQuality, MetadataKind, Recipe, RecipeSettings
from plumcrate.contract.recipes import Effort as EffortView
from plumcrate.contract.runs import Item, Run, RunRequest, Scope
from plumcrate.contract.savings import Savings
from plumcrate.imaging import Effort, Level
from plumcrate.imaging.formats import COPIES, FORMATS, KNOBS
from plumcrate.imaging.kinds import Kind
from plumcrate.imaging.outcome import Role

REQUESTS = [
    LibraryRequest,
    LibraryChange,
    RunRequest,
    RecipeSettings,
    CheckRequest,
    ForecastRequest,
    PruneRequest,
    OverrideRequest,
    KeyRequest,
    SignIn,
    PutBackRequest,
    ReattachRequest,
    Automation,
]
ANSWERS = [
    Library,
    Run,
    Item,
    Job,
    Picture,
    File,
    Derived,
    WorstPlace,
    Savings,
    Recipe,
    FilePlan,
    Effect,
    Machine,
    Backups,
    Orphan,
    Uploaded,
    Health,
    Format,
]


@pytest.mark.parametrize("model", REQUESTS, ids=lambda model: model.__name__)
def test_a_request_with_a_field_that_nobody_knows_is_refused(model: type[BaseModel]) -> None:
    assert issubclass(model, Message)
    with pytest.raises(ValidationError) as caught:
        model.model_validate({"tpyo": 1})
    assert ("tpyo",) in [
        fault["loc"] for fault in caught.value.errors() if fault["type"] == "extra_forbidden"
    ]


@pytest.mark.parametrize("model", ANSWERS, ids=lambda model: model.__name__)
def test_an_answer_may_say_more_than_is_known(model: type[BaseModel]) -> None:
    assert issubclass(model, Answer)
    assert model.model_config["extra"] == "ignore"
    faults = []
    try:
        model.model_validate({"news": 1})
    except ValidationError as error:
        faults = [fault["type"] for fault in error.errors()]
    assert set(faults) <= {"missing"}


def test_settings_within_an_answer_are_read_as_tolerantly() -> None:
    recipe = Recipe(
        library="l", version=1, settings=RecipeSettings(), by="x", created_at="2026-01-01T00:00:00Z"
    ).model_dump(mode="json")
    recipe["settings"]["brand_new"] = {"a": 1}
    recipe["settings"]["largest"]["depth"] = 3
    read = TypeAdapter(Recipe).validate_python(recipe, extra="ignore")
    assert read.settings == RecipeSettings()
    with pytest.raises(ValidationError):
        RecipeSettings.model_validate(recipe["settings"])


@given(st.lists(st.sampled_from(list(CopyFormat)), max_size=6))
def test_copies_are_a_set_in_one_order(formats: list[CopyFormat]) -> None:
    settings = RecipeSettings(copies=formats)
    assert settings.copies == [format for format in CopyFormat if format in formats]
    assert settings == RecipeSettings(copies=formats[::-1])


def test_the_words_are_those_of_the_core() -> None:
    assert list(CopyFormat) == list(COPIES)
    assert set(FixedQuality.model_fields) == set(KNOBS)
    for theirs, ours in (
        (Level, LevelView),
        (Effort, EffortView),
        (Kind, MetadataKind),
    ):
        assert [str(word) for word in theirs] == [str(word) for word in ours]
    assert {*map(str, Purpose), "file"} == set(get_args(Role))


def test_the_table_of_formats_contradicts_itself_nowhere() -> None:
    endings = [ending for format in FORMATS.values() for ending in format.endings]
    assert len(endings) == len(set(endings))
    for format in FORMATS.values():
        assert format.treated or not (format.copy or format.knob or format.conversion)
        assert format.shown or not format.copy
        assert all(ending.startswith(".") and ending == ending.lower() for ending in format.endings)
        shown = Format.model_validate(format, from_attributes=True)
        assert (shown.name, shown.label, shown.copy_of_others) == (format.name, format.label, format.copy)


@pytest.mark.parametrize(
    ("scope", "fits"),
    [
        ({}, True),
        ({"folder": "2024", "untreated": True}, True),
        ({"folder": "2024", "failed_of": 3}, True),
        ({"folder": "2024", "pictures": [1]}, True),
        ({"run": 1, "failed_of": 2}, False),
        ({"pictures": [1], "run": 2}, False),
    ],
)
def test_which_parts_of_a_scope_go_together(scope: dict[str, object], fits: bool) -> None:
    if fits:
        Scope.model_validate(scope)
    else:
        with pytest.raises(ValidationError, match="give one of"):
            Scope.model_validate(scope)


def test_a_job_has_the_report_of_its_kind() -> None:
    known = {"id": 1, "library": "l", "state": "running", "created_at": "2026-01-01T00:00:00Z"}
    for kind in JobKind:
        job = Job.model_validate({**known, "kind": kind, report_of(kind): {}})
        assert getattr(job, report_of(kind)) is not None
        with pytest.raises(ValidationError, match="without its report"):
            Job.model_validate({**known, "kind": kind})


def test_what_is_said_by_default_tells_nobody_where_a_picture_was_taken() -> None:
    assert RecipeSettings().metadata == ["rights"]
    assert LibraryRequest(name="x", root="/x").metadata == ["rights"]
