"""Keeping the sums on pictures true after their files changed."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import text
from sqlalchemy.orm import Session

_REFRESH = """
UPDATE pictures p SET
    files = s.files, bytes_before = s.bytes_before, bytes_now = s.bytes_now,
    bytes_lightest = s.bytes_lightest, score = s.score, worst = s.worst, state = s.state, reason = s.reason,
    original_id = s.original_id, format = o.format, width = o.width, height = o.height
FROM (
    SELECT f.picture_id,
        count(*) FILTER (WHERE f.state <> 'gone') AS files,
        coalesce(sum(f.size_before) FILTER (WHERE f.state <> 'gone'), 0) AS bytes_before,
        coalesce(sum(f.size_now) FILTER (WHERE f.state <> 'gone'), 0) AS bytes_now,
        coalesce(sum(least(f.size_now, c.size)) FILTER (WHERE f.state <> 'gone'), 0) AS bytes_lightest,
        min(f.score) AS score, min(f.worst) AS worst,
        CASE
            WHEN bool_and(f.state = 'gone') THEN 'gone'
            WHEN bool_or(f.state = 'failed') THEN 'failed'
            WHEN bool_or(f.state = 'unreadable') THEN 'unreadable'
            WHEN bool_or(f.state = 'new') THEN 'new'
            WHEN bool_or(f.state = 'lighter') THEN 'lighter'
            WHEN bool_or(f.state = 'removed') THEN 'removed'
            WHEN bool_or(f.state = 'left-alone') THEN 'left-alone'
            ELSE 'kept'
        END AS state,
        (array_agg(f.reason ORDER BY f.role, f.id) FILTER (WHERE f.reason IS NOT NULL))[1] AS reason,
        (array_agg(f.id ORDER BY (f.state = 'gone'), f.role, f.width DESC, f.id))[1] AS original_id
    FROM files f
    LEFT JOIN LATERAL (SELECT min(size) AS size FROM derived WHERE file_id = f.id AND stands_in) c ON true
    WHERE f.picture_id = ANY(:ids)
    GROUP BY f.picture_id
) s
JOIN files o ON o.id = s.original_id
WHERE p.id = s.picture_id
"""


def refresh_pictures(session: Session, picture_ids: Sequence[int]) -> None:
    """Recomputes the sums of some pictures from their files and what stands beside them."""
    if picture_ids:
        ids = {"ids": list(picture_ids)}
        # Everybody who refreshes several locks them in one order, so that no two wait for each other.
        session.execute(text("SELECT 1 FROM pictures WHERE id = ANY(:ids) ORDER BY id FOR UPDATE"), ids)
        session.execute(text(_REFRESH), ids)


def drop_empty(session: Session, picture_ids: Sequence[int]) -> None:
    """Deletes those of some pictures that have no file left."""
    if picture_ids:
        session.execute(
            text(
                "DELETE FROM pictures p WHERE p.id = ANY(:ids) "
                "AND NOT EXISTS (SELECT 1 FROM files f WHERE f.picture_id = p.id)"
            ),
            {"ids": list(picture_ids)},
        )
