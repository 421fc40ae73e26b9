"""SVG drawings (W3C, Scalable Vector Graphics 1.1 second edition, and 2): written anew, lighter, drawn the
same. Nothing that a drawing names is fetched, and no script of it runs."""

from .cleaning import Tolerance, cleaned
from .document import Drawing, read_drawing
from .drawing import CannotDraw, drawn, picture_of
from .writing import written

__all__ = ["CannotDraw", "Drawing", "Tolerance", "cleaned", "drawn", "picture_of", "read_drawing", "written"]
