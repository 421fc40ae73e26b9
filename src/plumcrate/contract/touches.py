"""Touch-ups of one picture: a list of steps, and watermarks that are laid over what visitors are served."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, model_validator

from .common import Answer, Message, Number, Whole
from .recipes import Sharpening, When
from .sizes import SizeName

Part = Annotated[Number, Field(ge=0, le=1)]
Amount = Annotated[Number, Field(ge=-100, le=100)]
Colour = Annotated[list[Annotated[Whole, Field(ge=0, le=255)]], Field(min_length=3, max_length=3)]
Point = Annotated[list[Part], Field(min_length=2, max_length=2)]
#: So many steps a picture may have, and so many points a stroke.
MOST_STEPS, MOST_POINTS = 60, 400


class CropTouch(Message):
    """Straightened by ``angle`` degrees against the clock, then cut to a box in parts of what is left."""

    kind: Literal["crop"]
    left: Part = 0.0
    top: Part = 0.0
    width: Number = Field(1.0, gt=0, le=1)
    height: Number = Field(1.0, gt=0, le=1)
    angle: Number = Field(0.0, ge=-45, le=45)


class TurnTouch(Message):
    """By quarters with the clock; mirrored before that."""

    kind: Literal["turn"]
    quarters: Whole = Field(0, ge=0, le=3)
    mirrored: bool = False


class BrightnessTouch(Message):
    kind: Literal["brightness"]
    amount: Amount = 0.0


class ContrastTouch(Message):
    kind: Literal["contrast"]
    amount: Amount = 0.0


class WhiteTouch(Message):
    """The colour that is to become neutral, red, green and blue."""

    kind: Literal["white"]
    colour: Colour = Field(default_factory=lambda: [255, 255, 255])


class SaturationTouch(Message):
    kind: Literal["saturation"]
    amount: Amount = 0.0


class SharpenTouch(Sharpening):
    kind: Literal["sharpen"]


class GreyTouch(Message):
    kind: Literal["grey"]


class CoverTouch(Message):
    """A stroke of a round brush that is painted over: ``radius`` in parts of the longer side."""

    kind: Literal["cover"]
    points: list[Point] = Field(min_length=1, max_length=MOST_POINTS)
    radius: Number = Field(0.02, ge=0.001, le=0.25)
    soft: Part = 0.3
    way: Literal["colour", "clone", "surroundings"] = "surroundings"
    colour: Colour = Field(default_factory=lambda: [255, 255, 255])
    offset: Annotated[
        list[Annotated[Number, Field(ge=-1, le=1)]],
        Field(min_length=2, max_length=2, description="Where a clone is taken from, away from the stroke."),
    ] = Field(default_factory=lambda: [0.0, 0.0])


Touch = Annotated[
    CropTouch
    | TurnTouch
    | BrightnessTouch
    | ContrastTouch
    | WhiteTouch
    | SaturationTouch
    | SharpenTouch
    | GreyTouch
    | CoverTouch,
    Field(discriminator="kind"),
]


class Touches(Message):
    """All steps of a picture, in order; none puts the picture back as it was."""

    steps: list[Touch] = Field(max_length=MOST_STEPS)
    original: str | None = Field(
        None,
        max_length=64,
        description="The version of the picture that the steps were made on: refused if another stands now.",
    )


class TouchedPicture(Answer):
    """A picture's steps, and its width and height with them."""

    picture_id: int
    steps: list[Touch]
    original: str
    width: int
    height: int
    by: str = ""
    at: datetime | None = None


class TouchesFor(Touches):
    """The same steps for several pictures; painted and cut places only make sense for one."""

    pictures: list[Annotated[Whole, Field(ge=1)]] = Field(min_length=1, max_length=1_000)


class TouchedView(Message):
    """A part of a picture as steps would make it, in the picture's own pixels."""

    steps: list[Touch] = Field(max_length=MOST_STEPS)
    left: Part = 0.0
    top: Part = 0.0
    width: Whole = Field(900, ge=16, le=2_400)
    height: Whole = Field(700, ge=16, le=2_400)
    whole: bool = Field(False, description="The whole picture, made as small as the width and height.")


class WatermarkSettings(Message):
    """A watermark, and which files bear it. The first watermark that fits a file is laid over it."""

    when: When = Field(default_factory=lambda: When(), description="Which pictures.")
    originals: bool = Field(True, description="The site's own files: originals and the renditions it makes.")
    sizes: list[SizeName] | None = Field(None, description="Which sizes; null for all.")
    words: Annotated[str, StringConstraints(max_length=120, pattern=r"^[^\x00-\x1f\x7f]*$")] = Field(
        "", description="Words in one line, in place of a picture."
    )
    place: Literal[
        "top-left", "top", "top-right", "left", "centre", "right", "bottom-left", "bottom", "bottom-right"
    ] = "bottom-right"
    width: Number = Field(0.2, gt=0, le=1, description="Part of the picture's width.")
    margin: Number = Field(0.03, ge=0, le=0.4, description="Part of the shorter side.")
    opacity: Number = Field(0.6, gt=0, le=1)
    least: Whole = Field(60, ge=8, le=4_000, description="Where it would be narrower it is left out.")
    tone: Literal["light", "dark", "under", "own"] = Field(
        "under", description="Light, dark, what stands out from what is under it, or its own colours."
    )

    @model_validator(mode="after")
    def _on_something(self) -> WatermarkSettings:
        if not self.originals and self.sizes == []:
            raise ValueError("the watermark would be on nothing: name sizes, or originals")
        return self


class WatermarkRule(Answer):
    """A watermark of a library. ``picture``: it has one; else it is words."""

    library: str
    name: str
    settings: WatermarkSettings
    picture: bool = False
    width: int = 0
    height: int = 0
    by: str = ""
    created_at: datetime
