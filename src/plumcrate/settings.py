"""The service's settings: environment variables that begin with ``PLUMCRATE_`` come first, then a file.

The file is TOML, its names are those of the variables in small letters, without the prefix. It is
``/etc/plumcrate/settings.toml``, or what ``PLUMCRATE_SETTINGS`` says.
"""

from __future__ import annotations

import os
import tomllib
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from pydantic import Field, ValidationError
from pydantic_settings import (
    BaseSettings,
    InitSettingsSource,
    PydanticBaseSettingsSource,
    SettingsConfigDict,
    SettingsError,
)

from plumcrate.logs import LogForm

PREFIX = "PLUMCRATE_"
_WITH_PASSWORDS = ("database_url", "smtp")
_USUAL_FILE = Path("/etc/plumcrate/settings.toml")


class WrongSettings(Exception):
    """The settings cannot be read; the text says which and why."""


class Settings(BaseSettings):
    """See docs/operators.md for what each means."""

    model_config = SettingsConfigDict(env_prefix=PREFIX, extra="ignore")

    database_url: str = Field(
        "", description="postgresql://… of the database for the records; empty: a private server's."
    )
    state_dir: Path = Field(Path("/var/lib/plumcrate"), description="Where backups and previews are kept.")
    host: str = "127.0.0.1"
    port: int = 8020
    children: int = Field(
        default_factory=lambda: max(1, os.cpu_count() or 1),
        ge=1,
        le=64,
        description="Pictures treated at a time by one worker process.",
    )
    idle_seconds: float = Field(
        20.0,
        ge=1,
        le=300,
        description="How long an idle worker sleeps at most before it looks for work.",
    )
    ready_needs_worker: bool = Field(
        True, description="Whether the service counts as ready, at /readyz, only while a worker lives."
    )
    bulk_floor: float = Field(
        0.16,
        gt=0,
        le=64,
        description="Processors that bulk work gets at least, however busy the machine is with other work.",
    )
    max_megapixels: float = Field(200.0, gt=0, description="Larger pictures are left alone.")
    max_file_mb: int = Field(300, gt=0, description="Larger files are left alone, and never read whole.")
    max_upload_mb: int = Field(200, gt=0, description="Larger uploads through the API are refused.")
    seconds_per_megapixel: float = Field(
        20.0, gt=0, description="Processor time that one picture may use, plus 60 s."
    )
    child_memory_mb: int = Field(6000, ge=500, description="Address space of one child process.")
    retry_seconds: list[float] = Field(
        [15.0, 120.0, 900.0], description="Pauses before a file with a temporary fault is tried again."
    )
    secure_cookies: bool = Field(False, description="Set where the console is served over HTTPS.")
    trusted_proxies: list[str] = Field(
        [], description="Addresses of proxies whose X-Forwarded-For and -Proto are believed."
    )
    allowed_hosts: list[str] = Field(
        ["*"], description="Host names under which the service answers; * for any."
    )
    log_form: LogForm = Field(LogForm.LOGFMT, description="How a line of the log is written.")
    trace_to: str | None = Field(
        None,
        pattern=r"^https?://[^\s/]+",
        description="The OpenTelemetry collector (OTLP over HTTP) that is told what takes its time.",
    )
    access_log: bool = Field(
        True, description="Whether each request is logged; probes and pictures for visitors are not."
    )
    metrics_address: str | None = Field(
        None,
        pattern=r"^[^\s/]+:[0-9]{1,5}$",
        description="host:port at which figures are told to a monitoring system without a key.",
    )
    most_connections: int = Field(500, ge=10, description="Open at a time; more are closed at once.")
    most_connections_each: int = Field(
        200, ge=5, description="Open at a time from one address that is no trusted proxy."
    )
    keep_history_days: int = Field(
        180,
        ge=1,
        description="Ended jobs, and the items of ended runs, are deleted after so many days.",
    )
    keep_left_days: int = Field(
        90, ge=1, description="Backups of a library that was disconnected are deleted after so long."
    )
    offered_folders: list[str] = Field(
        ["/srv", "/var/www", "/home", "/mnt", "/media", "/data"],
        description="Folders among which the console lets an administrator choose one to connect.",
    )
    pages_allowed: list[str] = Field(
        [], description="Hosts and networks that pages and webhooks may reach though not public: host:port."
    )
    pages_memory_mb: int = Field(2500, ge=500, description="Memory that the browser may use for one page.")
    pages_most_mb: int = Field(200, ge=1, description="What one visit of a page may load.")
    browser: Path | None = Field(None, description="Where Chromium is, when it is not where Debian puts it.")
    address: str | None = Field(
        None, pattern=r"^https?://[^/\s]+/?$", description="Where people reach the service, for links to it."
    )
    mail_command: list[str] = Field(
        [], description="A command that reads a mail from standard input and sends it."
    )
    smtp: str | None = Field(None, description="smtp:// or smtps:// of a server that sends mail.")
    mail_sender: str = Field("plumcrate@localhost", description="Whom mail comes from.")
    previews_mb: int = Field(500, ge=10, description="Disk space for previews.")
    reports_dir: Path | None = Field(None, description="Where each month's reports are put too, by library.")
    session_days: int = Field(14, ge=1)

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        return init_settings, env_settings, InitSettingsSource(settings_cls, in_file())

    @property
    def most_pixels(self) -> int:
        return round(self.max_megapixels * 1e6)

    @property
    def most_bytes(self) -> int:
        return self.max_file_mb * 1_000_000


def file_of_settings() -> Path | None:
    """The file that is read; None where there is none. Raises :class:`WrongSettings` for a named one that is
    not there."""
    named = os.environ.get(f"{PREFIX}SETTINGS")
    if named:
        if not Path(named).is_file():
            raise WrongSettings(f"{PREFIX}SETTINGS names {named}, which is not there")
        return Path(named)
    return _USUAL_FILE if _USUAL_FILE.is_file() else None


def in_file() -> dict[str, Any]:
    """What the file says. Raises :class:`WrongSettings`."""
    place = file_of_settings()
    if place is None:
        return {}
    try:
        values = tomllib.loads(place.read_text())
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise WrongSettings(f"{place} cannot be read: {error}") from None
    for name in values:
        if name not in Settings.model_fields:
            raise WrongSettings(f"{place}: there is no setting {name}")
    return values


def load() -> Settings:
    """The settings in force. Raises :class:`WrongSettings`."""
    try:
        return Settings()
    except ValidationError as error:
        faults = "; ".join(f"{fault['loc'][0]}: {fault['msg']}" for fault in error.errors() if fault["loc"])
        raise WrongSettings(f"the settings do not fit: {faults}") from None
    except SettingsError as error:
        raise WrongSettings(f"the settings do not fit: {error}") from None


def origin(name: str) -> str:
    """Where a setting's value comes from: its variable's name, the file, or ``default``."""
    variable = f"{PREFIX}{name}".upper()
    if variable in os.environ:
        return variable
    place = file_of_settings()
    return str(place) if place is not None and name in in_file() else "default"


def shown(name: str, value: object) -> str:
    """A setting's value for people: without the password that may be in an address."""
    if value in (None, "", []):
        return "–"
    text = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
    if name in _WITH_PASSWORDS:
        password = urlsplit(text).password
        return text.replace(f":{password}@", ":…@") if password else text
    return text
