"""What Thin is told: what holds, how many keys, who shares their times."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from leancurve.operations.base import (
    Params,
    number,
    timed,
)


class Tighter(Params):
    """A span in which a part of the body keeps closer to the take."""

    group: str = Field(description='a group of the body, such as "left arm"')
    first: int = timed(time="begins", ge=0)
    last: int = timed(time="ends", ge=0)
    share: float = number(0.25, "×", "share of the tolerance that is left", gt=0, le=1)


class Path(Params):
    """A span in which a hand or a foot keeps to its path, not only its joints to their angles."""

    limb: Literal["left hand", "right hand", "left foot", "right foot"]
    first: int = timed(time="begins", ge=0)
    last: int = timed(time="ends", ge=0)
    mm: float = number(3.0, "mm", "how far it may leave its path", gt=0, le=1000)


class ThinParams(Params):
    measure: Literal["channel", "joint", "ends"] = Field(
        "channel",
        description="what the tolerance holds for: each channel, each joint's rotation, or the "
        "path of hands, feet and head",
    )
    tolerance_deg: float = number(
        0.25, "°", "largest error of each rotation channel, or of each joint's rotation",
        when={"measure": ["channel", "joint"]}, gt=0, le=45,
    )  # fmt: skip
    tolerance_mm: float = number(
        1.0, "mm", "largest error of each position channel", gt=0, le=1000,
        when={"measure": ["channel", "joint"]},
    )  # fmt: skip
    ends_mm: float = number(
        5.0, "mm", "largest error at hands, feet and head", when={"measure": ["ends"]},
        gt=0, le=1000,
    )  # fmt: skip
    layout: Literal["channel", "joint", "part", "pose"] = Field(
        "channel",
        description="who shares key times: nobody, a joint's channels, a part of the body, all",
    )
    search: Literal["usual", "fewest keys"] = Field(
        "usual",
        description="how hard keys are looked for: the fewest take some three times as long",
        json_schema_extra={"when": {"layout": ["channel"]}},
    )
    most_keys: int | None = number(
        None, "keys", "at most so many keys: the tolerance follows", ge=2
    )
    poses: int | None = number(
        None, "poses", "about so many key poses: the tolerance follows",
        when={"layout": ["pose"]}, ge=2,
    )  # fmt: skip
    landmarks: bool = Field(
        True, description="keep extremes, both ends of holds, and velocity breaks as keys"
    )
    extremes: Literal["every", "large"] = Field(
        "every",
        description="which extremes have a key: every one that stands out by ten tolerances, or "
        "only those that do by thirty, for fewer keys",
        json_schema_extra={"when": {"landmarks": [True]}},
    )
    props: bool = Field(
        True, description="thin the motion of props too, where the whole clip is thinned"
    )
    contacts: bool = Field(True, description="keys on limbs where a contact begins or ends")
    planted: float = number(
        0.5, "×", "share of the tolerance left to a leg while its foot is planted", gt=0, le=1
    )
    also: tuple[int, ...] = timed((), time="points", description="frames that are keys in any case")
    tighter: tuple[Tighter, ...] = Field((), description="spans that keep closer to the take")
    paths: tuple[Path, ...] = Field((), description="spans in which hands or feet keep their path")
    keep: dict[str, tuple[float, ...]] | None = timed(
        None,
        time="points",
        description='only these keys, by channel: {"Hips.tx": [0, 20]}; handles alone are '
        "fitted, with no bound on the error",
    )
