"""What stands in a page where a picture will be: its average colour, and a preview of less than 200 bytes.

Both come from the previews that lists show. Where there is none yet, one is begun, and the page goes without.
"""

from __future__ import annotations

import base64
import io
import threading
from collections import OrderedDict

from .previews import USUAL_WIDTH, Previews

#: The longer side of the inline preview, in pixels, and how long its address may be.
_SIDE, _MOST = 14, 200
_REMEMBERED = 20_000


class Placeholders:
    """Remembers what it painted; safe in several threads."""

    def __init__(self, previews: Previews) -> None:
        self._previews = previews
        self._known: OrderedDict[str, tuple[str, str | None]] = OrderedDict()
        self._guard = threading.Lock()

    def of(self, file_id: int) -> tuple[str | None, str | None]:
        """Colour (``#rrggbb``) and inline preview (a ``data:`` address) of a file; None for what there is
        not yet."""
        source = self._previews.source(file_id, USUAL_WIDTH)
        if source is None:
            return None, None
        with self._guard:
            known = self._known.get(source.tag)
        if known is not None:
            return known
        try:
            small = source.place.read_bytes()
        except OSError:
            self._previews.ahead([file_id])
            return None, None
        painted = paint(small)
        with self._guard:
            self._known[source.tag] = painted
            while len(self._known) > _REMEMBERED:
                self._known.popitem(last=False)
        return painted


def paint(preview: bytes) -> tuple[str, str | None]:
    """Colour and inline preview from a small picture that is ours."""
    from PIL import Image  # with the first page that asks, and not with the service

    image = Image.open(io.BytesIO(preview)).convert("RGB")
    red, green, blue = image.resize((1, 1), Image.Resampling.BOX).getpixel((0, 0))  # type: ignore[misc]
    image.thumbnail((_SIDE, _SIDE), Image.Resampling.BOX)
    address: str | None = None
    for quality in (30, 10, 0):
        out = io.BytesIO()
        image.save(out, "WEBP", quality=quality, method=6)
        address = f"data:image/webp;base64,{base64.b64encode(out.getvalue()).decode()}"
        if len(address) < _MOST:
            break
    else:
        address = None
    return f"#{red:02x}{green:02x}{blue:02x}", address
