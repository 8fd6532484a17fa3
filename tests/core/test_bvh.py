"""BVH in full: every shape of file that is meant, read and written without loss."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.evidence import guess_unit
from leancurve.numbers import rotation
from leancurve.numbers.kernels.text import scan_numbers

HEAD = """HIERARCHY
ROOT Hips
{
\tOFFSET 0 0 0
\tCHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
\tJOINT Left Arm:1.b
\t{
\t\tOFFSET 0 50 0
\t\tCHANNELS 3 Yrotation Zrotation Xrotation
\t\tEnd Site
\t\t{
\t\t\tOFFSET 0 120.5 1e-3
\t\t}
\t}
}
MOTION
"""
ROW = "1 2 3 10 20 30 -5 15.25 1.5e1"


def file(
    rows: list[str], head: str = HEAD, frames: int | None = None, time: str = "0.0083333"
) -> bytes:
    count = len(rows) if frames is None else frames
    return (head + f"Frames: {count}\nFrame Time: {time}\n" + "\n".join(rows) + "\n").encode()


def test_a_plain_file() -> None:
    take = read_bvh(file([ROW, ROW]), "plain")
    clip = take.clip
    assert clip.skeleton.names == ("Hips", "Left Arm:1.b")
    assert clip.layout[1] == ("ry", "rz", "rx")
    assert clip.orders == ("ZXY", "YZX")
    assert clip.rate == 120
    assert clip.frames == 2
    assert clip.curves[base_track(1, "rx")].values.tolist() == [15.0, 15.0]
    assert clip.skeleton.ends[0].offset == (0.0, 120.5, 1e-3)
    assert take.warnings == ()


@pytest.mark.parametrize(
    "change",
    [
        lambda s: s.replace(b"\n", b"\r\n"),
        lambda s: s.replace(b"\n", b"\r"),
        lambda s: s.replace(b"\n", b"\n\n  \n"),
        lambda s: s.replace(b"\t", b"    "),
        lambda s: s.replace(b" ", b"\t"),
        lambda s: b"\xef\xbb\xbf" + s,
        lambda s: s.decode().encode("utf-16"),
        lambda s: s.replace(b"\n{", b" {"),
        lambda s: s.replace(b"HIERARCHY", b"hierarchy").replace(b"rotation", b"ROTATION"),
        lambda s: s.replace(b"Frames:", b"Frames :").replace(b"Frame Time:", b"Frame  Time:  "),
        lambda s: s.rstrip(b"\n"),
        lambda s: s.replace(b"1 2 3 10 20", b"1 2 3\n10 20"),
        lambda s: s.replace(b" 20 ", b" +20. "),
    ],
)
def test_spellings_that_mean_the_same_read_the_same(change: object) -> None:
    plain = file([ROW, ROW.replace("1 2 3", "4 5 6")])
    a, b = read_bvh(plain).clip, read_bvh(change(plain)).clip
    joined = [n.replace("\t", " ") for n in b.skeleton.names]
    assert joined == list(a.skeleton.names)
    for c in a.channels:
        assert np.array_equal(a.curves[c].values, b.curves[c].values)


@settings(max_examples=200)
@given(
    st.lists(
        st.one_of(
            st.floats(allow_nan=False, allow_infinity=False).map(repr),
            st.decimals(-10000, 10000, places=6).map(str),
            st.integers(-(10**25), 10**25).map(str),
            st.sampled_from(["-0", "1e5", "1E-7", "00012.50", ".5", "5.", "1e400"[:3], "4.9e-324"]),
        ),
        min_size=1,
        max_size=50,
    ),
    st.sampled_from([" ", "\t", "  \n", "\r\n"]),
)
def test_the_scanner_reads_every_number_as_python_does(tokens: list[str], gap: str) -> None:
    values, _, bad = scan_numbers(gap.join(tokens).encode())
    assert not bad
    assert values.tolist() == [float(t) for t in tokens]
    assert [np.signbit(v) for v in values] == [np.signbit(float(t)) for t in tokens]


def test_a_hundred_thousand_numbers_of_every_length_are_exact() -> None:
    random = np.random.default_rng(8)
    bits = random.integers(0, 2**63 - 1, 40_000, dtype=np.int64).view(np.float64)
    values = np.concatenate([bits[np.isfinite(bits)], random.normal(0, 90, 60_000)])
    tokens = [repr(v) for v in values.tolist()]
    tokens += [f"{m}e-{k}" for m in random.integers(10**17, 10**18, 900) for k in range(22)]
    read, _, bad = scan_numbers(" ".join(tokens).encode())
    assert not bad
    assert np.array_equal(read, [float(t) for t in tokens])


@settings(max_examples=30)
@given(st.integers(0, 2**32 - 1))
def test_writing_loses_nothing_that_text_can_hold(seed: int) -> None:
    random = np.random.default_rng(seed)
    clip = read_bvh(file([ROW] * 5)).clip
    values = random.normal(0, 10.0 ** random.integers(-12, 8), (len(clip.channels), 5))
    clip = clip.with_curves(
        {c: replace(clip.curves[c], values=v) for c, v in zip(clip.channels, values, strict=True)}
    )
    back = read_bvh(write_bvh(clip)).clip
    for c in clip.channels:
        assert np.array_equal(back.curves[c].values, clip.curves[c].values)


def test_written_files_keep_names_order_offsets_channels_and_end_sites() -> None:
    head = HEAD.replace(
        "\tJOINT Left",
        "\tEnd Site\n\t{\n\tOFFSET 1 2 3\n\t}\n\tJOINT Left",
    )
    take = read_bvh(file([ROW], head))
    again = read_bvh(write_bvh(take.clip))
    assert again.clip.skeleton == take.clip.skeleton
    assert again.clip.layout == take.clip.layout
    assert write_bvh(again.clip) == write_bvh(take.clip)
    assert write_bvh(take.clip).index(b"End Site") < write_bvh(take.clip).index(b"JOINT")


@pytest.mark.parametrize(
    ("text", "rate"),
    [
        ("0.0083333", Fraction(120)),
        ("0.008333", Fraction(120)),
        (".0416667", Fraction(24)),
        ("0.0417083", Fraction(24000, 1001)),
        ("0.0333667", Fraction(30000, 1001)),
        ("0.033333", Fraction(30)),
        ("0.016683", Fraction(60000, 1001)),
        ("0.02", Fraction(50)),
        ("0.0073", Fraction(10000, 73)),
    ],
)
def test_frame_times_become_the_rate_that_was_meant(text: str, rate: Fraction) -> None:
    """24000/1001 and 30000/1001 as SMPTE defines them (common practice)."""
    assert read_bvh(file([ROW], time=text)).clip.rate == rate


@pytest.mark.parametrize(("says", "holds"), [(9, 3), (1, 3)])
def test_frame_counts_that_disagree_bring_in_what_is_there(says: int, holds: int) -> None:
    take = read_bvh(file([ROW] * holds, frames=says))
    assert take.clip.frames == holds
    assert f"says {says} frames but holds {holds}" in take.warnings[0]


def test_a_last_row_cut_short_is_left_out_with_a_warning() -> None:
    take = read_bvh(file([ROW, ROW, "1 2 3"], frames=3))
    assert take.clip.frames == 2
    assert "line 21) holds 3 of 9" in take.warnings[0]


def test_zero_frames_are_a_skeleton_without_motion() -> None:
    take = read_bvh(file([]))
    assert take.clip.frames == 0
    assert take.warnings == ("the file holds no motion, only a skeleton",)
    assert read_bvh(write_bvh(take.clip)).clip.frames == 0


def moving_joint(values: str) -> Clip:
    head = HEAD.replace(
        "CHANNELS 3 Yrotation", "CHANNELS 6 Xposition Yposition Zposition Yrotation"
    )
    return read_bvh(file([f"1 2 3 10 20 30 {values} 0 0 0"] * 3, head)).clip


def test_position_channels_near_the_offset_replace_it_near_zero_add_to_it() -> None:
    replacing, adding = moving_joint("0.1 49.5 0"), moving_joint("0.1 -0.5 0")
    assert replacing.reading.joint_positions == "replace"
    assert adding.reading.joint_positions == "add"
    for clip in (replacing, adding):
        assert evaluate(clip).translation[0, 1] == pytest.approx([0.1, 49.5, 0])


def test_what_position_channels_mean_is_said_and_can_be_changed() -> None:
    head = HEAD.replace(
        "CHANNELS 3 Yrotation", "CHANNELS 6 Xposition Yposition Zposition Yrotation"
    )
    take = read_bvh(file(["1 2 3 10 20 30 0 50 0 0 0 0"], head))
    assert "position channels on 1 joints besides the root replace the rest offset" in take.notes
    changed = replace(take.clip, reading=replace(take.clip.reading, joint_positions="add"))
    assert evaluate(changed).translation[0, 1] == pytest.approx([0, 100, 0])


@pytest.mark.parametrize(
    ("height", "unit", "says"),
    [
        (178.0, 0.01, "unit cm"),
        (1.78, 1.0, "unit m:"),
        (1780.0, 0.001, "unit mm"),
        (70.0, 0.0254, "unit in"),
        (30.0, 1.7 / 30, "unit 5.67 cm"),
    ],
)
def test_the_unit_is_told_by_the_figures_height(height: float, unit: float, says: str) -> None:
    metres, note = guess_unit(height)
    assert metres == pytest.approx(unit)
    assert says in note


def test_up_is_where_the_head_is() -> None:
    head = HEAD.replace("Left Arm:1.b", "Head").replace("OFFSET 0 50 0", "OFFSET 0 0 50")
    legs = head.replace("\tJOINT Head", "\tJOINT Foot\n\t{\n\tOFFSET 0 0 -90\n\t}\n\tJOINT Head")
    assert read_bvh(file([ROW], legs)).clip.reading.up_axis == "z"


def test_the_open_capture_reads_as_its_description_says(open_capture: Clip) -> None:
    """31 joints, 96 channels, 2,752 frames at 120 a second, ZYX, a unit of its own."""
    assert (len(open_capture.skeleton), len(open_capture.channels)) == (31, 96)
    assert (open_capture.frames, open_capture.rate) == (2752, 120)
    assert set(open_capture.orders) == {"ZYX"}
    assert open_capture.reading.metres_per_unit not in (1, 0.01, 0.0254, 0.001)
    assert open_capture.reading.ends == ("LeftFoot", "RightFoot", "Head", "LeftHand", "RightHand")


def test_an_independent_parser_reads_our_files_as_the_same_poses(
    walk: Clip, tmp_path: object
) -> None:
    """pybvh (PyPI, MIT) reads names, order and numbers; SciPy turns them into rotations."""
    import pybvh
    from scipy.spatial.transform import Rotation

    path = tmp_path / "walk.bvh"
    path.write_bytes(write_bvh(walk))
    theirs = pybvh.read_bvh_file(path)
    assert theirs.frame_count == walk.frames
    ours = evaluate(walk, np.array([0.0, 333, 899])).rotation
    for joint, name in enumerate(walk.skeleton.names):
        order = walk.order(joint)
        index = theirs.joint_names.index(name)
        angles = np.degrees(theirs.joint_angles[[0, 333, 899], index])
        q = Rotation.from_euler(order, angles, degrees=True).as_quat()
        assert rotation.geodesic_deg(ours[:, joint], q).max() < 1e-6
