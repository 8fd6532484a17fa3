"""Where joints are, as a table: CSV (RFC 4180), a row a frame. It holds places, no skeleton and no
rotations, and so is never brought in."""

from __future__ import annotations

import csv
import io
from typing import Any

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.errors import BadInput
from leancurve.formats.table import FRAME, SECONDS, unit_of
from leancurve.numbers.arrays import Floats


def write_world(clip: Clip, props: bool = True) -> bytes:
    """Places in the world of each joint, then of each prop, on each frame: the frame, its time in
    seconds, then ``Hips x (cm)`` and so on, in the skeleton's unit and axes."""
    unit = unit_of(clip)
    _, places = evaluate(clip).world(clip.skeleton)
    names = list(clip.skeleton.names)
    if props and clip.props:
        places = np.concatenate([places, placed_props(clip)[1]], axis=1)
        names += [p.name for p in clip.props]
    rows = places.reshape(clip.frames, -1).tolist()
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow([FRAME, SECONDS, *(f"{n} {a} ({unit})" for n in names for a in "xyz")])
    rate = float(clip.rate)
    for frame, row in enumerate(rows):
        writer.writerow([frame, repr(frame / rate), *map(repr, row)])
    return out.getvalue().encode()


def read_world(data: bytes) -> tuple[list[str], Floats]:
    """The names in a table of places, and these ``(F, N, 3)`` in its unit."""
    rows: list[Any] = list(csv.reader(io.StringIO(data.decode(), newline="")))
    if not rows or rows[0][:2] != [FRAME, SECONDS] or len(rows[0]) % 3 != 2:
        raise BadInput("expected a frame, its seconds, and three columns of each joint", line=1)
    names = [cell.rsplit(" ", 2)[0] for cell in rows[0][2::3]]
    try:
        values = np.array([row[2:] for row in rows[1:]], dtype=np.float64)
        return names, values.reshape(len(rows) - 1, len(names), 3)
    except ValueError:
        raise BadInput("expected as many numbers in each row as there are columns") from None
