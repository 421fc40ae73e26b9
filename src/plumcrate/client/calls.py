"""Each request of the API as data, so that both clients send the same."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from plumcrate import contract
from plumcrate.contract import Page

T = TypeVar("T")
Params = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Call(Generic[T]):
    """One request and how its answer is read. ``seconds``: how long to wait when it is not the usual."""

    method: str
    path: str
    answer: TypeAdapter[T]
    params: Params | None = None
    body: BaseModel | None = None
    content: bytes | None = None
    seconds: float | None = None


def _get(path: str, answer: type[T], **params: Any) -> Call[T]:
    given = {name: value for name, value in params.items() if value is not None}
    return Call("GET", path, TypeAdapter(answer), given)


def health() -> Call[contract.Health]:
    return _get("/health", contract.Health)


def who() -> Call[contract.Person]:
    return _get("/session", contract.Person)


def libraries() -> Call[list[contract.Library]]:
    return _get("/libraries", list[contract.Library])


def library(slug: str) -> Call[contract.Library]:
    return _get(f"/libraries/{slug}", contract.Library)


def connect(request: contract.LibraryRequest) -> Call[contract.Library]:
    return Call("POST", "/libraries", TypeAdapter(contract.Library), body=request)


def change_library(slug: str, change: contract.LibraryChange) -> Call[contract.Library]:
    return Call("PATCH", f"/libraries/{slug}", TypeAdapter(contract.Library), body=change)


def disconnect(slug: str) -> Call[None]:
    return Call("DELETE", f"/libraries/{slug}", TypeAdapter(None))


def start_survey(slug: str) -> Call[contract.Survey]:
    return Call("POST", f"/libraries/{slug}/surveys", TypeAdapter(contract.Survey))


def survey(survey_id: int) -> Call[contract.Survey]:
    return _get(f"/surveys/{survey_id}", contract.Survey)


def savings(slug: str) -> Call[contract.Savings]:
    return _get(f"/libraries/{slug}/savings", contract.Savings)


def pictures(slug: str, **filters: Any) -> Call[Page[contract.Picture]]:
    return _get(f"/libraries/{slug}/pictures", Page[contract.Picture], **filters)


def picture(picture_id: int) -> Call[contract.PictureDetail]:
    return _get(f"/pictures/{picture_id}", contract.PictureDetail)


def start_run(request: contract.RunRequest) -> Call[contract.Run]:
    return Call("POST", "/runs", TypeAdapter(contract.Run), body=request)


def runs(library: str | None, limit: int) -> Call[list[contract.Run]]:
    return _get("/runs", list[contract.Run], library=library, limit=limit)


def run(run_id: int) -> Call[contract.Run]:
    return _get(f"/runs/{run_id}", contract.Run)


def items(run_id: int, **filters: Any) -> Call[Page[contract.Item]]:
    return _get(f"/runs/{run_id}/items", Page[contract.Item], **filters)


def change_run(run_id: int, action: str) -> Call[contract.Run]:
    return Call("POST", f"/runs/{run_id}/{action}", TypeAdapter(contract.Run))


def make_key(request: contract.KeyRequest) -> Call[contract.NewKey]:
    return Call("POST", "/keys", TypeAdapter(contract.NewKey), body=request)


def recipe(slug: str) -> Call[contract.Recipe]:
    return _get(f"/libraries/{slug}/recipe", contract.Recipe)


def recipes(slug: str) -> Call[list[contract.Recipe]]:
    return _get(f"/libraries/{slug}/recipes", list[contract.Recipe])


def save_recipe(slug: str, settings: contract.RecipeSettings) -> Call[contract.Recipe]:
    return Call("PUT", f"/libraries/{slug}/recipe", TypeAdapter(contract.Recipe), body=settings)


def effect(slug: str, settings: contract.RecipeSettings) -> Call[contract.Effect]:
    return Call("POST", f"/libraries/{slug}/recipe/effect", TypeAdapter(contract.Effect), body=settings)


def set_own(picture_id: int, request: contract.OwnRequest) -> Call[contract.PictureDetail]:
    return Call("PUT", f"/pictures/{picture_id}/own", TypeAdapter(contract.PictureDetail), body=request)


def plan(picture_id: int) -> Call[list[contract.Plan]]:
    return _get(f"/pictures/{picture_id}/plan", list[contract.Plan])


def backups(slug: str) -> Call[contract.Backups]:
    return _get(f"/libraries/{slug}/backups", contract.Backups)


def orphans(slug: str, **params: int) -> Call[Page[contract.Orphan]]:
    return _get(f"/libraries/{slug}/orphans", Page[contract.Orphan], **params)


def rescue(slug: str, backup_id: int, request: contract.PutBackRequest) -> Call[contract.Orphan]:
    address = f"/libraries/{slug}/orphans/{backup_id}/restore"
    return Call("POST", address, TypeAdapter(contract.Orphan), body=request)


def recognise(slug: str, request: contract.RecogniseRequest) -> Call[contract.Recognised]:
    return Call("POST", f"/libraries/{slug}/recognise", TypeAdapter(contract.Recognised), body=request)


def stop_check(check_id: int) -> Call[contract.Check]:
    return Call("POST", f"/checks/{check_id}/stop", TypeAdapter(contract.Check))


def stop_forecast(forecast_id: int) -> Call[contract.Forecast]:
    return Call("POST", f"/forecasts/{forecast_id}/stop", TypeAdapter(contract.Forecast))


def prune(slug: str, request: contract.PruneRequest) -> Call[contract.Pruned]:
    return Call("POST", f"/libraries/{slug}/backups/prune", TypeAdapter(contract.Pruned), body=request)


def start_check(slug: str, request: contract.CheckRequest) -> Call[contract.Check]:
    return Call("POST", f"/libraries/{slug}/checks", TypeAdapter(contract.Check), body=request)


def check(check_id: int) -> Call[contract.Check]:
    return _get(f"/checks/{check_id}", contract.Check)


def start_forecast(slug: str, request: contract.ForecastRequest) -> Call[contract.Forecast]:
    return Call("POST", f"/libraries/{slug}/forecasts", TypeAdapter(contract.Forecast), body=request)


def forecast(forecast_id: int) -> Call[contract.Forecast]:
    return _get(f"/forecasts/{forecast_id}", contract.Forecast)


def forecasts(slug: str) -> Call[list[contract.Forecast]]:
    return _get(f"/libraries/{slug}/forecasts", list[contract.Forecast])


def machine() -> Call[contract.Machine]:
    return _get("/machine", contract.Machine)


def hook_secret(slug: str) -> Call[contract.HookSecret]:
    return Call("POST", f"/libraries/{slug}/hook-secret", TypeAdapter(contract.HookSecret))


def upload(slug: str, path: str, data: bytes, treat: str, wait: float) -> Call[contract.Uploaded]:
    params = {"treat": treat, "wait": wait}
    address = f"/libraries/{slug}/files/{quote(path)}"
    return Call("PUT", address, TypeAdapter(contract.Uploaded), params, content=data, seconds=wait + 60)
