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
    max_upload_mb: int = Field(200, gt=0, description="Larger uploads through the API are refused.")
    seconds_per_megapixel: float = Field(20.0, gt=0, description="Time limit for one picture, plus 60 s.")
    child_memory_mb: int = Field(6000, ge=500, description="Address space of one child process.")
    retry_seconds: list[float] = Field(
        [15.0, 120.0, 900.0], description="Waits before a file with a passing fault is tried again."
    )
    secure_cookies: bool = Field(False, description="Set where the console is served over HTTPS.")
    session_days: int = Field(14, ge=1)

    def backups_of(self, slug: str) -> Path:
        """The backup store of one library."""
        return self.state_dir / "backups" / slug
