"""The outline of a body in a small picture."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.demo.bodies import made_body
from leancurve.demo.characters import heron
from leancurve.document.clip import Clip, Reading
from leancurve.formats.files import read_takes
from leancurve.formats.gltf.writing import write_gltf
from leancurve.measures.picture import picture
from leancurve.measures.silhouette import silhouette
from leancurve.numbers.arrays import Floats


def rings(points: Floats, triangles: list[list[int]]) -> list[Floats]:
    told = silhouette(np.asarray(points, dtype=float), np.array(triangles))
    return [np.array(ring).reshape(-1, 2) for ring in told]


def area(ring: Floats) -> float:
    """By the shoelace formula: of one that goes the other way it is negative."""
    x, y = ring.T
    return 0.5 * float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1)))


def test_a_square_is_outlined_by_its_corners() -> None:
    (ring,) = rings(np.array([[0, 0], [0.5, 0], [0.5, 0.5], [0, 0.5]]), [[0, 1, 2], [0, 2, 3]])
    assert area(ring) == pytest.approx(0.25, rel=0.05)
    assert len(ring) < 30
    assert ring.min() == pytest.approx(0.0, abs=0.01)
    assert ring.max() == pytest.approx(0.5, abs=0.01)


def test_a_hole_is_a_ring_that_goes_the_other_way() -> None:
    angles = np.linspace(0, 2 * np.pi, 48, endpoint=False)
    circle = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    points = np.concatenate([0.5 * circle, 0.25 * circle])
    triangles = []
    for k in range(48):
        n = (k + 1) % 48
        triangles += [[k, n, 48 + k], [n, 48 + n, 48 + k]]
    found = rings(points, triangles)
    assert len(found) == 2
    areas = sorted(area(r) for r in found)
    assert areas[0] == pytest.approx(-np.pi / 16, rel=0.06)
    assert areas[1] == pytest.approx(np.pi / 4, rel=0.06)


def test_nothing_is_outlined_by_nothing_and_a_point_far_off_takes_no_memory() -> None:
    assert silhouette(np.zeros((0, 2)), np.zeros((0, 3), dtype=int)) == []
    far = np.array([[0, 0], [1e12, 0], [0, 1e12]], dtype=float)
    (ring,) = rings(far, [[0, 1, 2]])
    assert ring.max() <= 4.1


def test_a_character_is_drawn_in_its_body_and_a_motion_as_poses() -> None:
    skeleton = heron()
    still = Clip(skeleton, tuple(() for _ in skeleton.names), {}, 30, 1, Reading(), "Heron")  # type: ignore[arg-type]
    (take,) = read_takes(write_gltf([still], made_body(skeleton)), "heron.glb")
    drawn = picture(take.clip, take.skin)
    assert drawn["figures"] == []
    outline = max((np.array(r).reshape(-1, 2) for r in drawn["outlines"]), key=area)
    assert np.ptp(outline[:, 1]) == pytest.approx(1.0, abs=0.03)
    assert outline[:, 1].min() == pytest.approx(0.0, abs=0.02)
    # A body as wide as its arms reach, no more.
    assert 0.3 < np.ptp(outline[:, 0]) < 1.3
    assert sum(len(r) for r in drawn["outlines"]) < 2_000
    assert picture(take.clip)["outlines"] == []
