"""Numbers, colours and transforms, written as short as they can be."""

from __future__ import annotations

import math
import re
from functools import lru_cache

from PIL import ImageColor

NUMBER = r"[-+]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?"
_LENGTH = re.compile(rf"\s*({NUMBER})(px|pt|pc|mm|cm|in|em|ex|%)?\s*\Z")
_NUMBERS = re.compile(NUMBER)
_FUNCTION = re.compile(r"[\s,]*([a-zA-Z]+)\s*\(([^()]*)\)")
_RGB = re.compile(r"rgb\(\s*(\d{1,3})\s*,\s*(\d{1,3})\s*,\s*(\d{1,3})\s*\)\Z", re.I)
_HEX = re.compile(r"#(?:[0-9a-f]{3}|[0-9a-f]{6})\Z", re.I)
#: More decimals are written by nobody, and none are seen.
_MOST_DECIMALS = 9


def decimals_for(tolerance: float) -> int | None:
    """How many decimals keep a rounded number within a tolerance; None: all that it has."""
    if tolerance <= 0:
        return None
    return max(0, min(_MOST_DECIMALS, math.ceil(-math.log10(2 * tolerance))))


@lru_cache(maxsize=1 << 16)
def shown(units: int, decimals: int) -> str:
    """``units`` of the last decimal place as a number, without any character that it can do without."""
    sign, digits = "-" if units < 0 else "", str(abs(units))
    if decimals:
        digits = digits.zfill(decimals + 1)
        whole, part = digits[:-decimals], digits[-decimals:].rstrip("0")
        if part:
            return f"{sign}{'' if whole == '0' else whole}.{part}"
        digits = whole
    return sign + digits if digits != "0" else "0"


def rounded(text: str, decimals: int | None) -> str:
    """A number with so many decimals at most; None: with the digits that it has, which browsers read in
    single precision one after the other, less the zeros before and behind."""
    if decimals is None:
        return respelled(text)
    return shown(round(float(text) * 10**decimals), decimals)


@lru_cache(maxsize=1 << 16)
def respelled(text: str) -> str:
    """A number without a digit or sign that says nothing."""
    digits, mark, power = text.lower().partition("e")
    sign, digits = ("-" if digits[0] == "-" else ""), digits.lstrip("+-").lstrip("0")
    if "." in digits:
        digits = digits.rstrip("0").removesuffix(".")
    return sign + digits + mark + power if digits else "0"


def joined(numbers: list[str]) -> str:
    """Numbers one after the other, apart only where they must be (SVG 1.1, 8.3.9)."""
    out: list[str] = []
    for number in numbers:
        if out and needs_gap(out[-1], number):
            out.append(" ")
        out.append(number)
    return "".join(out)


def needs_gap(before: str, number: str) -> bool:
    """Whether a number would run into the one before it."""
    return not (number[0] == "-" or (number[0] == "." and "." in before))


def short_length(value: str, decimals: int | None = None) -> str:
    """A number with or without a unit; anything else as it is. Pixels need no unit in an attribute."""
    match = _LENGTH.match(value)
    if match is None:
        return value
    number, unit = match.groups()
    short = rounded(number, decimals) + ("" if unit in (None, "px") else unit)
    return short if len(short) < len(value) else value


def numbers_of(value: str) -> list[str] | None:
    """The numbers of a list as they are written; None where anything but space and commas stands between
    them."""
    return None if _NUMBERS.sub("", value).strip(" ,\t\r\n") else _NUMBERS.findall(value)


@lru_cache(maxsize=4096)
def short_colour(value: str) -> str:
    """A colour in the fewest characters: by name, or with three or six digits; anything else as it is."""
    text = value.strip()
    match = _RGB.match(text)
    if match is not None:
        red, green, blue = (min(255, int(part)) for part in match.groups())
    elif _HEX.match(text) or text.lower() in ImageColor.colormap:
        red, green, blue = ImageColor.getrgb(text)[:3]
    else:
        return value
    digits = f"{red:02x}{green:02x}{blue:02x}"
    doubled = all(digits[at] == digits[at + 1] for at in (0, 2, 4))
    best = f"#{digits[::2] if doubled else digits}"
    name = _NAMES.get(f"#{digits}", best)
    return min((best, name, text), key=len)


def _names() -> dict[str, str]:
    """The shortest name of each colour (CSS Color Module Level 4, 6.1)."""
    names: dict[str, str] = {}
    for name, value in ImageColor.colormap.items():
        plain = value if isinstance(value, str) else "#{:02x}{:02x}{:02x}".format(*value[:3])
        if plain not in names or len(name) < len(names[plain]):
            names[plain] = name
    return names


_NAMES = _names()

Matrix = tuple[float, float, float, float, float, float]
IDENTITY: Matrix = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0)


#: A function of a transform list, with its numbers as they are written.
Function = tuple[str, list[str]]


def functions_of(value: str) -> list[Function] | None:
    """The functions of a transform list (SVG 1.1, 7.6); None for what is none."""
    found, at = [], 0
    value = value.strip()
    while at < len(value):
        match = _FUNCTION.match(value, at)
        numbers = numbers_of(match.group(2)) if match is not None else None
        if match is None or numbers is None or len(numbers) not in _TAKES.get(match.group(1), ()):
            return None
        found.append((match.group(1), numbers))
        at = match.end()
    return found


_TAKES = {
    "matrix": (6,),
    "translate": (1, 2),
    "scale": (1, 2),
    "rotate": (1, 3),
    "skewX": (1,),
    "skewY": (1,),
}


def matrix_of(functions: list[Function]) -> Matrix:
    """What a transform list does, as one matrix."""
    whole = IDENTITY
    for name, numbers in functions:
        whole = times(whole, _matrix(name, list(map(float, numbers))))
    return whole


def _matrix(name: str, given: list[float]) -> Matrix:
    if name == "matrix":
        return (given[0], given[1], given[2], given[3], given[4], given[5])
    if name == "translate":
        return (1, 0, 0, 1, given[0], given[1] if len(given) > 1 else 0)
    if name == "scale":
        return (given[0], 0, 0, given[-1], 0, 0)
    angle = math.radians(given[0])
    if name == "skewX":
        return (1, 0, math.tan(angle), 1, 0, 0)
    if name == "skewY":
        return (1, math.tan(angle), 0, 1, 0, 0)
    cosine, sine = math.cos(angle), math.sin(angle)
    x, y = (given[1], given[2]) if len(given) > 1 else (0.0, 0.0)
    return (cosine, sine, -sine, cosine, x - cosine * x + sine * y, y - sine * x - cosine * y)


def times(first: Matrix, then: Matrix) -> Matrix:
    """The matrix of one transform within another."""
    a, b, c, d, e, f = first
    g, h, i, j, k, m = then
    return (
        a * g + c * h,
        b * g + d * h,
        a * i + c * j,
        b * i + d * j,
        a * k + c * m + e,
        b * k + d * m + f,
    )


def stretch(matrix: Matrix) -> float:
    """By how much a transform makes lengths longer at most: its larger singular value."""
    a, b, c, d = matrix[:4]
    squares = a * a + b * b + c * c + d * d
    rest = math.sqrt(max(0.0, squares * squares - 4 * (a * d - b * c) ** 2))
    return math.sqrt((squares + rest) / 2)


def short_transform(value: str, tolerance: float, reach: float) -> str:
    """A transform list, shorter; nothing where it does nothing. ``tolerance``: by how much a point may move;
    ``reach``: how far points lie from the origin at most."""
    functions = functions_of(value)
    if functions is None:
        return value
    moved, turned = decimals_for(tolerance / 2), decimals_for(tolerance / reach / 4)
    out = []
    for name, numbers in functions:
        name, numbers = _plainer(name, numbers)
        if name == "translate":
            parts = [rounded(number, moved) for number in numbers]
        elif name == "matrix":
            parts = [rounded(number, turned) for number in numbers[:4]]
            parts += [rounded(number, moved) for number in numbers[4:]]
        elif name == "scale":
            parts = [rounded(number, turned) for number in numbers]
        else:  # angles, in degrees; then the middle
            angle = decimals_for(math.degrees(tolerance / reach / 4))
            parts = [rounded(numbers[0], angle), *(rounded(number, moved) for number in numbers[1:])]
        if parts not in _NOTHING.get(name, ()):
            out.append(f"{name}({joined(parts)})")
    short = "".join(out)
    return short if len(short) < len(value) else value


_NOTHING = {
    "translate": (["0"], ["0", "0"]),
    "scale": (["1"], ["1", "1"]),
    "rotate": (["0"],),
    "matrix": (["1", "0", "0", "1", "0", "0"],),
}


def _plainer(name: str, numbers: list[str]) -> Function:
    """The same by a function with fewer numbers."""
    values = list(map(float, numbers))
    if name == "matrix":
        a, b, c, d, e, f = values
        if (a, b, c, d) == (1, 0, 0, 1):
            name, numbers, values = "translate", numbers[4:], [e, f]
        elif (b, c, e, f) == (0, 0, 0, 0):
            name, numbers, values = "scale", [numbers[0], numbers[3]], [a, d]
    if name == "translate" and len(numbers) == 2 and values[1] == 0:
        numbers = numbers[:1]
    if name == "scale" and len(numbers) == 2 and values[0] == values[1]:
        numbers = numbers[:1]
    return name, numbers
