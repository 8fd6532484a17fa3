"""The command line as a pipeline uses it: a process, its output and its exit code."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest
from leancurve.cli import main
from leancurve.demo import TAKES, captured, crate_take
from leancurve.demo.characters import heron_file, wren_file
from leancurve.demo.defects import Capture
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take
from leancurve.time.resample import resampled


@pytest.fixture(scope="module")
def take(captured_walk: Capture, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("cli") / "deck walk.bvh"
    path.write_bytes(write_bvh(captured_walk.clip))
    return path


@pytest.fixture(scope="module")
def short(captured_walk: Capture, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Its middle: three hundred frames, flips, spikes and sliding feet among them."""
    path = tmp_path_factory.mktemp("cli") / "deck walk.bvh"
    path.write_bytes(write_bvh(resampled(captured_walk.clip, first=400, last=700)))
    return path


def printed(capsys: pytest.CaptureFixture[str], *arguments: object) -> dict:
    assert main([str(a) for a in arguments] + ["--json"]) == 0
    return json.loads(capsys.readouterr().out)


def test_inspect_says_what_a_file_holds(take: Path, capsys: pytest.CaptureFixture[str]) -> None:
    found = printed(capsys, "inspect", take)
    expected = {"name": "deck walk", "joints": 65, "frames": 936, "rate": 60.0, "channels": 198}
    assert expected.items() <= found.items()
    assert found["flips"]["alternates"] == 14
    assert found["flips"]["wraps"] >= 12
    spike = next(f for f in found["findings"] if f["kind"] == "spike")
    assert set(spike) == {"kind", "joint", "channel", "first", "last", "size", "unit"}
    assert spike["unit"] == "°"


def test_run_unflips_thins_measures_and_writes(
    take: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "clean.json"
    report = printed(capsys, "run", take, out, "--unflip", "--thin", 0.5)
    assert report["keys_before"] == 936 * 198
    assert report["keys_after"] < report["keys_before"] / 20
    assert report["keys_bound"] <= report["keys_after"]
    assert 0 < report["max_error_deg"] <= 0.5
    assert report["rms_drift_deg"] < report["max_drift_deg"] < 1.5
    assert report["max_drift_mm"] > 0
    assert report["seconds"] > 0
    kept = read_take(out.read_bytes(), "clean.json").clip
    assert kept.key_count == report["keys_after"]
    compared = printed(capsys, "compare", take, out)
    for figure in ("max_drift_deg", "rms_drift_deg", "max_drift_mm"):
        assert compared[figure] == pytest.approx(report[figure], rel=1e-6)
    assert report["findings_before"]["alternate"] == 14
    assert "alternate" not in report["findings_after"]
    unflip, thin = report["lines"]
    assert (unflip["told"], thin["told"]) == ("Unflip", "Thin within 0.5°")
    assert (unflip["kind"], thin["kind"]) == ("continuity", "thin")
    assert unflip["drift_deg"] < 1e-9
    assert thin["drift_deg"] == pytest.approx(report["cost_deg"], rel=1e-4)
    assert thin["drift_mm"] == pytest.approx(report["cost_mm"], rel=1e-4)
    assert report["cost_deg"] == pytest.approx(report["max_drift_deg"], rel=1e-4)
    assert thin["rms_deg"] < thin["drift_deg"]
    assert thin["drift_at"]["joint"] in kept.skeleton.names
    assert 0 <= thin["drift_at"]["frame"] < 936
    assert json.loads(out.read_bytes())["recipe"][1]["params"]["tolerance_deg"] == 0.5


def test_calm_and_poses_from_the_command_line(
    short: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "posed.json"
    report = printed(capsys, "run", short, out, "--unflip", "--calm", "--poses", 60)
    # Sixty poses are held to within degrees: what jumped still jumps, and is said to.
    assert not {"jitter", "gap"} & set(report["findings_after"])
    assert "spike" in report["findings_before"]
    times = {
        tuple(c.time)
        for c in read_take(out.read_bytes(), "posed.json").clip.curves.values()
        if c.key_count > 2
    }
    assert len(times) == 1
    assert 50 <= len(next(iter(times))) <= 60


def test_a_recipe_is_written_by_hand_run_and_refused_by_line(
    short: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    known = printed(capsys, "operations")
    assert known["smooth"]["params"][0]["choices"][0] == "adaptive"
    assert known["thin"]["params"][1]["unit"] == "°"
    recipe = tmp_path / "recipe.json"
    lines = [
        {"operation": "trim"},
        {"operation": "unflip"},
        {"operation": "smooth", "params": {"strength": 0.5}, "scope": {"groups": ["left arm"]}},
        {"operation": "thin", "params": {"tolerance_deg": 0.4}},
    ]
    recipe.write_text(json.dumps({"name": "mine", "lines": lines}))
    out = tmp_path / "out.json"
    report = printed(capsys, "run", short, out, "--recipe", recipe)
    assert len(report["lines"]) == 4
    assert report["max_error_deg"] <= 0.4
    lines[2]["params"] = {"strength": 7}
    recipe.write_text(json.dumps(lines))
    assert main(["run", str(short), str(out), "--recipe", str(recipe)]) == 2
    error = capsys.readouterr().err
    assert "line 3 of the recipe: strength: " in error
    assert error.count("\n") == 1


def test_a_batch_runs_in_parallel_and_one_bad_file_harms_no_other(
    take: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    for k in (1, 2):
        short = resampled(captured(TAKES[2], seed=k).clip, first=0, last=200)
        (folder / f"walk{k}.bvh").write_bytes(write_bvh(short))
    (folder / "bad.bvh").write_text("nothing\n")
    files = sorted(folder.iterdir())
    out = tmp_path / "out"
    table = printed(capsys, "batch", "--recipe", "all", "--out", out, "--format", "json", *files)
    assert (table["done"], table["failed"]) == (2, 1)
    bad, one, _ = table["files"]
    assert "line 1: expected HIERARCHY" in bad["failed"]
    assert sum(one["findings_after"].values()) < sum(one["findings_before"].values()) / 3
    assert one["keys_after"] < one["keys_before"] / 10
    assert sorted(p.name for p in out.iterdir()) == ["walk1.json", "walk2.json"]


def test_convert_there_and_back_changes_nothing(
    short: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    middle, back = tmp_path / "a.json", tmp_path / "a.bvh"
    printed(capsys, "convert", short, middle)
    printed(capsys, "convert", middle, back)
    assert back.read_bytes() == short.read_bytes()


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["inspect", "nowhere.bvh"], "nowhere.bvh: No such file"),
        (["inspect", "{bad}"], "bad.bvh, line 1: expected HIERARCHY"),
        (["run", "{take}", "out.fbx", "--unflip"], "out.fbx: expected a file ending in"),
        (["run", "{take}", "/nowhere/out.bvh"], "/nowhere/out.bvh: No such file"),
        (["run", "{take}", "out.bvh", "--thin", "-1"], "tolerance_deg: .* got -1"),
        (["compare", "{take}", "{other}"], "different joints"),
    ],
)
def test_bad_input_is_one_line_and_exit_code_two(
    arguments: list[str], says: str, short: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    from tests.core.test_bvh import ROW, file

    bad, other = tmp_path / "bad.bvh", tmp_path / "other.bvh"
    bad.write_text("nothing\n")
    other.write_bytes(file([ROW]))
    filled = [a.format(bad=bad, take=short, other=other) for a in arguments]
    assert main(filled) == 2
    import re

    error = capsys.readouterr().err
    assert error.count("\n") == 1
    assert re.search(says, error)


def test_it_is_installed_as_a_command(short: Path) -> None:
    command = Path(sys.executable).parent / "leancurve"
    done = subprocess.run([command, "inspect", short], capture_output=True, text=True, check=True)
    assert "joints  65" in done.stdout
    wrong = subprocess.run([command, "inspect", "no.bvh"], capture_output=True, text=True)
    assert (wrong.returncode, wrong.stdout) == (2, "")


def test_run_plants_the_feet_and_the_file_holds_it(
    short: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "planted.bvh"
    report = printed(capsys, "run", short, out, "--unflip", "--calm", "--plant")
    assert report["foot_slide_before_mm"] > 30
    assert report["foot_slide_after_mm"] < 2
    assert report["missed_mm"] < 4
    assert report["limb_length_error_mm"] < 1e-9
    assert report["hips_changed_mm"] >= 0
    assert "slide" not in report["findings_after"]
    again = printed(capsys, "inspect", out)
    assert not [f for f in again["findings"] if f["kind"] in ("slide", "sink", "float")]
    recipe = tmp_path / "recipe.json"
    recipe.write_text(json.dumps({"lines": [{"operation": "plant", "params": {"ease": 0.4}}]}))
    kept = tmp_path / "planted.json"
    lines = printed(capsys, "run", short, kept, "--recipe", recipe)["lines"]
    assert [(x["told"], x["kind"]) for x in lines] == [("Plant the feet", "plant")]
    assert read_take(kept.read_bytes(), "planted.json").clip.plants


def test_a_take_is_retargeted_and_its_map_kept_and_read(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    take, target = tmp_path / "walk.bvh", tmp_path / "heron.bvh"
    take.write_bytes(write_bvh(resampled(TAKES[2].clean(), first=0, last=299)))
    target.write_bytes(write_bvh(heron_file()))
    kept = tmp_path / "map.json"
    assert main(["map", str(take), str(target), "--out", str(kept), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["mapped"] == 64
    assert told["unmapped"] == []
    assert {row["word"] for row in told["joints"]} <= {"sure", "likely"}

    document = json.loads(kept.read_text())
    document["joints"]["Head"] = ""
    kept.write_text(json.dumps(document))
    out = tmp_path / "retargeted.bvh"
    words = ["retarget", str(take), str(out), "--to", str(target), "--map", str(kept)]
    assert main([*words, "--plant", "--json"]) == 0
    done = json.loads(capsys.readouterr().out)
    assert done["unmapped"] == ["Head"]
    assert done["mapped"] == 63
    assert done["foot_slide_mm"] < 3.0
    assert done["missed_mm"] < 1.0
    assert done["end_error_mm"] < 20.0
    assert done["seconds"] > 0.0
    back = read_bvh(out.read_bytes()).clip
    assert back.skeleton.names == heron_file().skeleton.names
    assert back.frames == 300

    wren = tmp_path / "wren.json"
    wren.write_bytes(write_clip(wren_file()))
    retargeted = tmp_path / "retargeted.json"
    assert main(["retarget", str(take), str(retargeted), "--to", str(wren), "--ends", "0.5"]) == 0
    assert "mapped" in capsys.readouterr().out
    for wrong, said in (
        ('{"schema": "other"}', "not a joint map"),
        ("not json", "not JSON"),
        ('{"schema": "leancurve.map", "schema_version": 9}', "version"),
        ('{"schema": "leancurve.map", "schema_version": 1, "rest": {"Head": [1]}}', "three angles"),
    ):
        kept.write_text(wrong)
        assert main(words) == 2
        assert said in capsys.readouterr().err


def test_a_take_is_mirrored_and_back(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source, once, twice = (tmp_path / f"{n}.json" for n in ("a", "b", "c"))
    clip = crate_take().clip
    source.write_bytes(write_clip(resampled(clip, first=0, last=60)))
    report = printed(capsys, "mirror", source, once)
    assert report["most_turned_deg"] > 0.1
    printed(capsys, "mirror", once, twice)
    assert printed(capsys, "compare", source, twice)["max_drift_deg"] < 1e-5


def test_layers_are_listed_and_flattened(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Made by a recipe; flattened to a BVH, and to keys; and one of them alone."""
    take, made = tmp_path / "walk.bvh", tmp_path / "layered.json"
    take.write_bytes(write_bvh(resampled(TAKES[2].clean(), first=0, last=299)))
    recipe = tmp_path / "recipe.json"
    lines = [
        {"operation": "thin"},
        {"operation": "edit_layers",
         "params": {"edits": [{"do": "add", "name": n} for n in ("head", "arm")]}},
        {"operation": "key_layer",
         "params": {"layer": "head", "frame": 60, "turns": {"Head": [0, 20, 0]}}},
        {"operation": "key_layer",
         "params": {"layer": "arm", "frame": 60, "turns": {"LeftForearm": [0, 0, 18.5]}}},
    ]  # fmt: skip
    recipe.write_text(json.dumps({"lines": lines}))
    printed(capsys, "run", take, made, "--recipe", recipe)
    told = printed(capsys, "layers", made)["layers"]
    assert [(x["name"], x["parts"], round(x["max_deg"], 3)) for x in told] == [
        ("head", ["head"], 20.0),
        ("arm", ["left arm"], 18.5),
    ]
    flat, keys, one = (tmp_path / n for n in ("flat.bvh", "keys.json", "one.json"))
    printed(capsys, "flatten", made, flat)
    assert printed(capsys, "compare", made, flat)["max_drift_deg"] < 1e-4
    report = printed(capsys, "flatten", made, keys, "--keyed", 0.25)
    assert report["keys"] < 300 * report["channels"] / 3
    assert printed(capsys, "compare", made, keys)["max_drift_deg"] < 0.6
    assert printed(capsys, "flatten", made, one, "--layers", "arm")["layers"] == 1
    left = printed(capsys, "layers", one)["layers"]
    assert [(x["name"], x["muted"]) for x in left] == [("head", False)]
    assert main(["flatten", str(made), str(flat), "--layers", "leg"]) == 2
    assert "no layer is named 'leg'" in capsys.readouterr().err
