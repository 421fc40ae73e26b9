"""When the turn of a schedule comes: five fields as of cron, in a library's time zone."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from croniter import CroniterError, croniter

from plumcrate.contract.automation import Automation


def due(
    schedule: str | None, next_at: datetime | None, automation: Automation, now: datetime
) -> tuple[datetime | None, bool]:
    """When a schedule's turn comes next, and whether one has come. Turns missed count once."""
    if schedule is None:
        return None, False
    if next_at is not None and next_at - now > timedelta(days=366):
        next_at = None  # the clock was wrong when this was reckoned
    if next_at is not None and now < next_at:
        return next_at, False
    local = now.astimezone(ZoneInfo(automation.time_zone))
    try:
        following: datetime = croniter(schedule, local).get_next(datetime)
    except CroniterError:
        return None, False  # a day that never comes, such as 30 February
    return following, next_at is not None
