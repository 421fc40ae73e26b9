"""Lines of CSV (RFC 4180) that a spreadsheet shows and does not obey."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable
from datetime import datetime

#: What begins a formula, wide forms as well, where a field begins, or would where another character parts
#: fields.
_FORMULA = re.compile(r'(^|[;\t|\r\n])([\s"]*)([=+\-@＝＋－＠])')
_ODD = re.compile(r"^[\t\r\n]")


def line(values: Iterable[object]) -> str:
    """One line. Numbers stay numbers; text is quoted, and gets an apostrophe before what would begin a
    formula."""
    written = io.StringIO()
    csv.writer(written, quoting=csv.QUOTE_NONNUMERIC).writerow([harmless(value) for value in values])
    return written.getvalue()


def harmless(value: object) -> str | int | float:
    if value is None:
        return ""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return value
    text = value.isoformat() if isinstance(value, datetime) else str(value)
    return _ODD.sub(r"'\g<0>", _FORMULA.sub(r"\1\2'\3", text))
