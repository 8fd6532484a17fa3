"""Presets: the form in which a destination needs clips."""

from __future__ import annotations

from fractions import Fraction
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from leancurve.document.clip import Reading
from leancurve.errors import BadInput
from leancurve.formats.table import LENGTHS

Format = Literal["bvh", "json", "glb", "gltf", "usda", "usdc", "csv", "csv-world"]
Name = Annotated[str, Field(min_length=1, max_length=300)]
Unit = Literal["m", "cm", "mm"]
UNITS = LENGTHS
"""Metres of each unit: those that a table names."""
GLTF = ("glb", "gltf")
SCENES = (*GLTF, "usda", "usdc")
"""Formats that hold a body and props as things of their own."""
PATTERN = "{character}_{action}_v{version:03}"


class Preset(BaseModel):
    """Format, rate, axes, unit, root, joints and names of what is delivered; where a field is
    absent the clip's own stands."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    format: Format = Field("bvh", description="what is written")
    rate: tuple[int, int] | None = Field(None, description="frames a second, as a fraction")
    up_axis: Literal["x", "y", "z"] | None = Field(None, description="which axis is up")
    unit: Unit | None = Field(None, description="of lengths; glTF's is always metres")
    root: Literal["hips", "floor"] = Field(
        "hips", description="what carries travel and heading: the hips, or a joint on the floor"
    )
    floor_joint: Name = Field("Root", description="what the joint on the floor is called")
    without: tuple[Literal["twists", "helpers", "ends", "fingers"], ...] = Field(
        (), description="kinds of joints that are left out, their rotation folded into the others"
    )
    joints: tuple[Name, ...] = Field((), max_length=2000, description="these alone; all if none")
    plain_names: bool = Field(False, description="names without what stands before a colon or bar")
    prefix: str = Field("", max_length=60, description="put before each joint's name")
    renamed: dict[Name, Name] = Field({}, max_length=2000, description="names by a table")
    props: bool = Field(True, description="props go along, as joints of their own where need be")
    partners: bool = Field(False, description="partners go along, as figures with their own roots")
    body: Literal["own", "figure", "none"] = Field(
        "own", description="the skeleton's mesh; the drawn figure where it has none; or neither"
    )
    within_deg: float | None = Field(
        None, gt=0, le=10, description="glTF: cubic splines within so much; straight if absent"
    )
    within_mm: float = Field(0.5, gt=0, le=100, description="glTF: splines of positions")
    fewest: bool = Field(False, description="glTF: as few keys as can be, not the clip's own times")
    files: Literal["whole", "marks", "together"] = Field(
        "whole",
        description="one file of the range; one of each named span within it; or, in glTF, one of "
        "all clips on a skeleton that are delivered at once, each an animation of it",
    )
    pattern: str = Field(PATTERN, min_length=1, max_length=120, description="the file's name")
    folder: str = Field(
        "", max_length=120, description="within the output folder of this server; none if empty"
    )

    @property
    def ending(self) -> str:
        """What its files end in."""
        return ".csv" if self.format == "csv-world" else f".{self.format}"

    def keeps(self, rate: Fraction, reading: Reading) -> bool:
        """Whether it asks for a clip as it is, with its curves, layers and plants: one of such a
        rate, read so."""
        asked = (self.root, self.without, self.joints, self.plain_names, self.prefix, self.renamed)
        own = (
            self.at_rate(rate) == rate
            and self.up_axis in (None, reading.up_axis)
            and (self.unit is None or UNITS[self.unit] == reading.metres_per_unit)
        )
        return self.format == "json" and own and asked == ("hips", (), (), False, "", {})

    def at_rate(self, own: Fraction) -> Fraction:
        """Frames a second, of a clip whose own rate is given."""
        return own if self.rate is None else Fraction(*self.rate)

    def checked(self) -> Preset:
        """This preset; :class:`BadInput` where its fields do not go together."""
        if self.rate is not None and min(self.rate) < 1:
            raise BadInput("rate: must be above 0")
        if self.within_deg is not None and self.format not in GLTF:
            raise BadInput("fitted splines are for glTF alone: other formats have a key a frame")
        if self.files == "together" and self.format not in GLTF:
            raise BadInput("only a glTF file holds several clips: choose one file of each")
        if self.format in GLTF and (self.unit or "m", self.up_axis or "y") != ("m", "y"):
            raise BadInput("glTF is in metres with Y up, as its standard says")
        if self.format in ("usda", "usdc") and self.up_axis == "x":
            raise BadInput("USD has Y or Z up")
        return self


def preset_of(values: object) -> Preset:
    """A preset of plain JSON values; :class:`BadInput` names the field that is wrong."""
    try:
        return Preset.model_validate(values).checked()
    except ValidationError as trouble:
        first = trouble.errors()[0]
        where = ".".join(map(str, first["loc"])) or "preset"
        raise BadInput(f"{where}: {first['msg'].lower()}") from None


BYTES: dict[str, tuple[float, float]] = {
    "bvh": (0.0, 11.0), "json": (0.0, 18.0), "csv": (0.0, 18.0), "csv-world": (57.0, 0.0),
    "glb": (16.5, 0.0), "gltf": (22.0, 0.0), "usdc": (29.0, 0.0), "usda": (92.0, 0.0),
}  # fmt: skip
"""A joint's and a channel's bytes a frame, as measured on clips of 65 joints × 3,500 frames."""


def about_bytes(preset: Preset, joints: int, channels: int, frames: int) -> int:
    """Roughly how large a file will be: without its body, with all of its joints."""
    a_joint, a_channel = BYTES[preset.format]
    share = 0.4 if preset.within_deg is not None else 1.0
    return int(share * frames * (a_joint * joints + a_channel * channels)) + 2_000
