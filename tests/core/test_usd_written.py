"""USD written: by usd-core's own validators and queries, and read back."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from leancurve.cli import main
from leancurve.demo import crate_take
from leancurve.demo.bodies import made_body
from leancurve.demo.characters import heron, heron_file, wren_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.formats.bvh import write_bvh
from leancurve.formats.files import read_take, read_takes
from leancurve.formats.usd.writing import write_usd
from leancurve.numbers import rotation
from leancurve.time.resample import resampled
from pxr import Usd, UsdSkel, UsdValidation

from tests.core.gltf_files import Built
from tests.core.laden import laden
from tests.core.test_gltf import GOOD
from tests.core.test_gltf_written import in_metres, stands_alike
from tests.core.test_skins import FRAMES, fleshed, posed
from tests.core.usd_files import queried

ENDINGS = (".usda", ".usdc")


def opened(data: bytes, ending: str = ".usdc") -> Usd.Stage:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"x{ending}")
        path.write_bytes(data)
        layer = Usd.Stage.Open(str(path)).Flatten()
    return Usd.Stage.Open(layer)


def carried() -> Clip:
    """Half a second of the crate being carried."""
    return resampled(crate_take().clip, first=300, last=360)


def examples() -> dict[str, Clip]:
    (walk,) = read_takes(GOOD, "walk.glb")
    return {
        "walk": walk.clip, "crate": carried(), "heron": heron_file(), "wren": wren_file(),
        "laden": laden(),
    }  # fmt: skip


@pytest.mark.parametrize("name", ["walk", "crate", "heron", "wren", "laden"])
def test_what_is_written_breaks_no_rule_and_reads_back(name: str) -> None:
    """Every rule that usd-core knows."""
    clip = examples()[name]
    context = UsdValidation.ValidationContext(
        UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
    )
    for ending in ENDINGS:
        data = write_usd([clip], ending=ending)
        stage = opened(data, ending)
        errors = [e.GetMessage() for e in context.Validate(stage)]
        assert errors == []
        (take,) = read_takes(data, f"back{ending}")
        stands_alike(clip, take.clip)
        assert take.clip.frames == clip.frames
        assert take.clip.reading.metres_per_unit == pytest.approx(clip.reading.metres_per_unit)


@pytest.mark.parametrize("name", ["walk", "heron", "wren", "laden"])
def test_the_formats_own_queries_see_the_clip(name: str) -> None:
    clip = examples()[name]
    stage = opened(write_usd([clip]))
    (prim,) = (p for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton))
    frames = np.unique(np.linspace(0, clip.frames - 1, 20).astype(int))
    found = list(queried(stage, UsdSkel.Skeleton(prim), frames).values())
    _, placed = in_metres(clip)
    metres = clip.reading.metres_per_unit
    up = np.array([0, 0, 0, 1.0])
    if clip.reading.up_axis == "z":
        up = rotation.from_axis("X", np.array(-90.0))
    height = metres * clip.skeleton.rest_height
    for joint, matrices in enumerate(found):
        theirs = metres * rotation.rotate(up, matrices[:, 3, :3])
        assert np.abs(theirs - placed[frames, joint]).max() < 1e-5 * height


def test_several_clips_are_animations_of_one_skeleton() -> None:
    (walk,) = read_takes(GOOD, "walk.glb")
    fast = replace(walk.clip, name="walk fast", rate=Fraction(60))
    same = replace(walk.clip, name="walk-fast")
    takes = read_takes(write_usd([walk.clip, fast, same]), "both.usdc")
    assert [(t.clip.rate, t.clip.frames) for t in takes] == [(30, 61), (60, 61), (30, 61)]
    assert len({t.clip.name for t in takes}) == 3
    with pytest.raises(BadInput, match="on another skeleton than"):
        write_usd([walk.clip, heron_file()])
    with pytest.raises(BadInput, match="no clip to write"):
        write_usd([])


def test_a_body_comes_back_as_it_was() -> None:
    (take,) = read_takes(fleshed(8)[0].glb(), "walk.glb")
    (back,) = read_takes(write_usd([take.clip], take.skin), "back.usdc")
    assert take.skin is not None
    assert back.skin is not None
    assert np.array_equal(take.skin.triangles, back.skin.triangles)
    for frame in FRAMES:
        away = posed(take.skin, take.clip, frame) - posed(back.skin, back.clip, frame)
        assert np.abs(away).max() < 1e-5


def test_props_are_boxes_that_move_beside_the_figure() -> None:
    clip = carried()
    (back,) = read_takes(write_usd([clip]), "crate.usdc")
    assert [p.name for p in back.clip.props] == [p.name for p in clip.props]
    for mine, theirs in zip(clip.props, back.clip.props, strict=True):
        assert theirs.size == pytest.approx(mine.size, rel=1e-5)


def test_names_that_usd_does_not_allow_are_told_beside_the_paths() -> None:
    b = Built()
    given = ["Hüfte", "left arm", "left-arm", "腕"]
    at = [b.node(name, translation=(0, 0.2, 0)) for name in given]
    b.hang(at[0], *at[1:])
    b.skin(*at)
    (take,) = read_takes(b.glb(), "rig.glb")
    data = write_usd([take.clip])
    stage = opened(data)
    (prim,) = (p for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton))
    assert [str(n) for n in UsdSkel.Skeleton(prim).GetJointNamesAttr().Get()] == given
    (back,) = read_takes(data, "back.usdc")
    assert list(back.clip.skeleton.names) == given


def test_bvh_to_glb_to_usd_to_bvh_is_the_same_motion(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    files = [tmp_path / f"take.{e}" for e in ("bvh", "glb", "usda", "usdc")]
    files[0].write_bytes(write_bvh(carried()))
    last = tmp_path / "last.bvh"
    for a, b in zip(files, [*files[1:], last], strict=True):
        assert main(["convert", str(a), str(b)]) == 0
    begun, ended = (read_take(f.read_bytes(), f.name).clip for f in (files[0], last))
    turned, placed = in_metres(begun)
    theirs, there = in_metres(ended)
    by = [ended.skeleton.names.index(n) for n in begun.skeleton.names]
    assert rotation.geodesic_deg(turned, theirs[:, by]).max() < 1e-3
    assert np.abs(placed - there[:, by]).max() < 1e-5


def test_a_character_stands_in_its_body() -> None:
    skeleton = heron()
    skin = made_body(skeleton)
    rest = heron_file()
    (back,) = read_takes(write_usd([replace(rest)], skin), "heron.usdc")
    assert back.skin is not None
    turned, placed = evaluate(rest).world(skeleton)
    theirs = evaluate(back.clip).world(back.clip.skeleton)
    away = skin.posed(turned[0], placed[0]) - back.skin.posed(theirs[0][0], theirs[1][0])
    assert np.abs(away).max() < 1e-4 * skeleton.rest_height
