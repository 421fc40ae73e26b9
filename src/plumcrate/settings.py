"""The service's settings, from environment variables that begin with ``PLUMCRATE_``."""

from __future__ import annotations

import os
from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """See docs/operators.md for what each means."""

    model_config = SettingsConfigDict(env_prefix="PLUMCRATE_", extra="ignore")

    database_url: str = Field(description="postgresql://… of the database for the records.")
    state_dir: Path = Field(Path("/var/lib/plumcrate"), description="Where backups and previews are kept.")
    host: str = "127.0.0.1"
    port: int = 8020
    children: int = Field(
        default_factory=lambda: max(1, os.cpu_count() or 1),
        ge=1,
        le=64,
        description="Pictures treated at a time by one worker process.",
    )
    max_megapixels: float = Field(200.0, gt=0, description="Larger pictures are declined.")
    max_file_mb: int = Field(300, gt=0, description="Larger files are left alone, and never read whole.")
    max_upload_mb: int = Field(200, gt=0, description="Larger uploads through the API are refused.")
    seconds_per_megapixel: float = Field(
        20.0, gt=0, description="Processor time that one picture may use, plus 60 s."
    )
    child_memory_mb: int = Field(6000, ge=500, description="Address space of one child process.")
    retry_seconds: list[float] = Field(
        [15.0, 120.0, 900.0], description="Waits before a file with a passing fault is tried again."
    )
    secure_cookies: bool = Field(False, description="Set where the console is served over HTTPS.")
    trusted_proxies: list[str] = Field(
        [], description="Addresses of proxies whose X-Forwarded-For and -Proto are believed."
    )
    allowed_hosts: list[str] = Field(
        ["*"], description="Host names under which the service answers; * for any."
    )
    most_connections: int = Field(500, ge=10, description="Open at a time; more are closed at once.")
    most_connections_each: int = Field(
        200, ge=5, description="Open at a time from one address that is no trusted proxy."
    )
    keep_history_days: int = Field(
        180,
        ge=1,
        description="Ended jobs, and what ended runs say of files, are forgotten then.",
    )
    keep_left_days: int = Field(
        90, ge=1, description="Backups of a library that was disconnected are deleted after so long."
    )
    previews_mb: int = Field(500, ge=10, description="Room on disk for small pictures of lists.")
    session_days: int = Field(14, ge=1)

    @property
    def most_pixels(self) -> int:
        return round(self.max_megapixels * 1e6)

    @property
    def most_bytes(self) -> int:
        return self.max_file_mb * 1_000_000
