"""``leancurve``: inspect, run, batch, compare, convert and retarget takes from the command line."""

from __future__ import annotations

import argparse
import json
import os
import sys
import time
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict
from fractions import Fraction
from pathlib import Path
from typing import Any, get_args

from leancurve.delivery.folder import deliver_takes
from leancurve.delivery.preset import Format, Preset, preset_of
from leancurve.delivery.proof import verified
from leancurve.document.clip import Clip
from leancurve.document.scope import Scope
from leancurve.errors import BadInput
from leancurve.figure.skin import Skin
from leancurve.formats.bvh import Take
from leancurve.formats.choices import AS_TOLD, Choices
from leancurve.formats.evidence import KNOWN_RATES
from leancurve.formats.files import SINGLE, chosen, read_takes, write_take
from leancurve.formats.names import plain_name
from leancurve.joining.blending import BLEND_S
from leancurve.joining.loops import loops_of
from leancurve.measures.account import LineDrift, account
from leancurve.measures.drift import drift
from leancurve.measures.findings import find, work_left
from leancurve.measures.flights import flights_of
from leancurve.measures.gravity import told_by_gravity
from leancurve.measures.layers import layer_changes
from leancurve.measures.travel import Facing, round_of
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.operations.describe import described
from leancurve.operations.plant.figures import plant_figures
from leancurve.recipe import (
    ALL_OF_IT,
    FEET_PLANTED,
    KeptRecipe,
    checked_line,
    entry_of,
    read_recipe,
    run_recipe,
)
from leancurve.retarget.matching import match
from leancurve.retarget.profile import Profile, read_profile, told, write_profile
from leancurve.retarget.rest import RestFigure


def _bytes(path: str) -> bytes:
    try:
        return Path(path).read_bytes()
    except OSError as trouble:
        raise BadInput(trouble.strerror or str(trouble), file=path) from None


def _keep(data: bytes, path: str) -> None:
    try:
        Path(path).write_bytes(data)
    except OSError as trouble:
        raise BadInput(trouble.strerror or str(trouble), file=path) from None


def _read_all(path: str, skeleton: str | None = None, choices: Choices = AS_TOLD) -> list[Take]:
    """The takes of a file; what it refers to is looked up in its folder alone. A table of channels
    is read onto the ``skeleton`` of another file."""

    def beside(name: str) -> bytes | None:
        found = Path(path).parent / name
        return _bytes(str(found)) if found.is_file() else None

    like = None if skeleton is None else _read(skeleton).clip
    return read_takes(_bytes(path), path, beside, like, choices)


def _read(path: str, wanted: str | None = None) -> Take:
    return chosen(_read_all(path), wanted, path)


def _all_as_asked(args: argparse.Namespace) -> list[Take]:
    """The takes of the file that a command is given, as its options say."""
    return _read_all(args.file, args.skeleton, _choices(args))


def _as_asked(args: argparse.Namespace) -> Take:
    return chosen(_all_as_asked(args), args.take, args.file)


def _choices(args: argparse.Namespace) -> Choices:
    """``--order`` is one of all joints, or ``JOINT=ORDER`` of one."""
    orders = [text.rpartition("=") for text in args.order]
    return Choices(
        rate=args.rate,
        order=next((order for joint, _, order in orders if not joint), None),
        orders={joint: order for joint, _, order in orders if joint},
        within_deg=args.keyed,
    )


def _frames_a_second(text: str) -> Fraction:
    """``25``, ``29.97`` or ``30000/1001``; the first known rate that is as near as it is told."""
    try:
        told = Fraction(text)
    except ZeroDivisionError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a rate") from None
    return next((r for r in KNOWN_RATES if abs(r - told) < Fraction(1, 100)), told)


def _write(
    clip: Clip, path: str, recipe: Sequence[dict[str, Any]] = (), skin: Skin | None = None
) -> None:
    _keep(write_take(clip, path, recipe, skin), path)


def _rate(clip: Clip) -> float:
    return round(float(clip.rate), 6)


def _listed(take: Take) -> dict[str, Any]:
    clip, skin = take.clip, take.skin
    return {
        "name": clip.name, "joints": len(clip.skeleton), "frames": clip.frames,
        "rate": _rate(clip), "metres_per_unit": clip.reading.metres_per_unit,
        "up_axis": clip.reading.up_axis, "props": [p.name for p in clip.props],
        "mesh_triangles": 0 if skin is None else len(skin.triangles),
    }  # fmt: skip


def inspect(args: argparse.Namespace) -> dict[str, Any]:
    """What a file holds and what stands out in the first of its takes, or in one of a name."""
    takes = _all_as_asked(args)
    take = chosen(takes, args.take, args.file)
    clip = take.clip
    found = find(clip)
    counts = Counter(f.kind for f in found)
    return {
        "takes": [_listed(t) for t in takes],
        "name": clip.name,
        "joints": len(clip.skeleton),
        "frames": clip.frames,
        "rate": _rate(clip),
        "channels": len(clip.channels),
        "duration_s": round(clip.duration_s, 6),
        "metres_per_unit": clip.reading.metres_per_unit,
        "flips": {k: counts[k[:-1]] for k in ("wraps", "alternates")},
        "snaps": counts["snap"],
        "work": work_left(found),
        "findings": [
            {k: v for k, v in asdict(f).items() if k not in ("severity", "accepted")} for f in found
        ],
        "flights": _flown(clip),
        "notes": [*take.notes, *told_by_gravity(clip)],
        "warnings": list(take.warnings),
    }


def _chosen(args: argparse.Namespace) -> KeptRecipe:
    """The lines that the options of ``run`` ask for, in the order of the work."""
    recipe = _recipe(args.recipe) if args.recipe else KeptRecipe([])
    lines = list(recipe.lines)
    if args.unflip:
        lines.append(checked_line("unflip", {}, {}))
    if args.calm:
        lines += [checked_line(name, {}, {}) for name in ("fill", "despike", "smooth")]
    if args.plant:
        lines.append(checked_line("plant", {}, {}))
    if args.poses is not None:
        lines.append(checked_line("thin", {"layout": "pose", "poses": args.poses}, {}))
    elif args.thin is not None:
        params = {"tolerance_deg": args.thin, "tolerance_mm": args.thin_mm}
        lines.append(checked_line("thin", params, {}))
    return KeptRecipe(lines, recipe.rate)


BUILT_IN = {"all": ALL_OF_IT, "planted": FEET_PLANTED}


def _recipe(path: str) -> KeptRecipe:
    if path in BUILT_IN:
        return KeptRecipe(
            [checked_line(x["operation"], x.get("params", {}), {}) for x in BUILT_IN[path]]
        )
    return read_recipe(_bytes(path), path)


def _work(take: Take, out: str, recipe: KeptRecipe) -> dict[str, Any]:
    """Run lines on a take, write the result, and measure it against what was read."""
    began = time.perf_counter()
    before = find(take.clip)
    outcome = run_recipe(take.clip, recipe.lines, rate=recipe.rate)
    clip = outcome.clip
    report: dict[str, Any] = {
        "keys_before": take.clip.key_count,
        "keys_after": clip.key_count,
        "keys_bound": None,
        "max_error_deg": 0.0,
    }
    for done in outcome.lines:
        if done.line["operation"] == "unflip":
            report["flips"] = {k: done.report[k] for k in ("wraps", "alternates", "snaps")}
        if done.line["operation"] == "thin":
            report |= {k: done.report[k] for k in ("keys_bound", "max_error_deg", "max_error_mm")}
    if clip.plants:
        figures = plant_figures(clip)
        report |= {name: figures[name] for name in PLANT_FIGURES}
    if clip.frames == take.clip.frames and clip.rate == take.clip.rate:
        moved = drift(clip, take.clip)
        report |= {
            "max_drift_deg": moved.max_deg,
            "rms_drift_deg": moved.rms_deg,
            "max_drift_mm": moved.max_mm,
        }
    befores = [take.clip, *(d.clip for d in outcome.lines)]
    entries = [
        entry_of(d.line, d.report, was, d.clip)
        for d, was in zip(outcome.lines, befores, strict=False)
    ]
    told = account(entries)
    report |= {"cost_deg": told.cost_deg.size, "cost_mm": told.cost_mm.size}
    report["mended"] = [asdict(m) for m in told.mended]
    report |= {
        "findings_before": dict(Counter(f.kind for f in before)),
        "findings_after": dict(Counter(f.kind for f in find(clip))),
        "lines": [
            {"told": d.told, "keys": d.keys, **_drifted(e.drift)}
            for d, e in zip(outcome.lines, entries, strict=True)
        ],
        "seconds": round(time.perf_counter() - began, 4),
    }
    if outcome.lost:
        report["without_place"] = outcome.lost
    _write(
        clip,
        out,
        [{"version": 1, "params": {}, "scope": {}, **d.line} for d in outcome.lines],
        take.skin,
    )
    return report


PLANT_FIGURES = (
    *("foot_slide_before_mm", "foot_slide_after_mm", "hips_changed_mm", "missed_mm"),
    "limb_length_error_mm",
)


def _drifted(line: LineDrift) -> dict[str, Any]:
    """A line's own drift: its kind, its largest turn and where, its largest way at the ends."""
    return {
        "kind": line.kind,
        "drift_deg": line.deg.size,
        "rms_deg": line.deg.rms,
        "drift_at": {"joint": line.deg.name, "frame": line.deg.frame},
        "drift_mm": line.mm.size,
        "drift_mm_at": {"end": line.mm.name, "frame": line.mm.frame},
    }


def run(args: argparse.Namespace) -> dict[str, Any]:
    """Clean and thin a file; measure the result against what was read."""
    return _work(_as_asked(args), args.out, _chosen(args))


def _one_of_many(job: tuple[str, str | None, str, KeptRecipe]) -> dict[str, Any]:
    source, take, out, recipe = job
    try:
        return {"file": source, "out": out, **_work(_read(source, take), out, recipe)}
    except BadInput as trouble:
        return {"file": source, "failed": " ".join(str(trouble).split())}


def _names_in(source: str) -> list[str | None]:
    """The takes of a file that may hold several; None for the one of any other, and for what
    cannot be read: that is told with the rest."""
    if Path(source).suffix.lower() in SINGLE:
        return [None]
    try:
        takes = _read_all(source)
    except BadInput:
        return [None]
    return [None] if len(takes) == 1 else [t.clip.name for t in takes]


def batch(args: argparse.Namespace) -> dict[str, Any]:
    """One recipe on many files, in parallel; a file that fails harms no other."""
    recipe = _recipe(args.recipe)
    folder = Path(args.out)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as trouble:
        raise BadInput(trouble.strerror or str(trouble), file=args.out) from None
    ending = f".{args.format}" if args.format else None
    jobs, taken = [], set()
    for source in args.files:
        stem, own = Path(source).stem, Path(source).suffix
        written = ending or (own if own.lower() in SINGLE else ".json")
        for take in _names_in(source):
            out = folder / ((stem if take is None else f"{stem} {plain_name(take)}") + written)
            if out in taken:
                raise BadInput(f"two files would be written as {out.name}", file=source)
            taken.add(out)
            jobs.append((source, take, str(out), recipe))
    with ProcessPoolExecutor(args.jobs or min(len(jobs), os.cpu_count() or 1)) as pool:
        done = list(pool.map(_one_of_many, jobs))
    failed = sum("failed" in d for d in done)
    return {"done": len(done) - failed, "failed": failed, "files": done}


def operations(args: argparse.Namespace) -> dict[str, Any]:
    """Every operation with its parameters, units, defaults and bounds, to write a recipe by."""
    return {name: described(kind) for name, kind in OPERATIONS.items()}


def compare(args: argparse.Namespace) -> dict[str, Any]:
    """Drift between two files of one skeleton."""
    a, b = _read(args.a).clip, _read(args.b).clip
    if a.skeleton.names != b.skeleton.names:
        raise BadInput("the two files have different joints", file=args.b)
    moved = drift(b, a)
    return {
        "max_drift_deg": moved.max_deg,
        "rms_drift_deg": moved.rms_deg,
        "max_drift_mm": moved.max_mm,
        "frames": [a.frames, b.frames],
    }


def convert(args: argparse.Namespace) -> dict[str, Any]:
    """The same clip in another format. BVH holds a value on each frame, never keys."""
    take = _as_asked(args)
    clip = take.clip
    _write(clip, args.out, skin=take.skin)
    return {"frames": clip.frames, "channels": len(clip.channels), "keys": clip.key_count}


def _preset(args: argparse.Namespace) -> Preset:
    """A preset's file, with what options say otherwise."""
    values = _preset_in(args.preset) if args.preset else {}
    said = {
        "format": args.format,
        "rate": None if args.rate is None else [args.rate.numerator, args.rate.denominator],
        "joints": _lines(args.joints) if args.joints else None,
        "root": args.root,
        "within_deg": args.spline,
        "files": "together" if args.together else None,
    }
    return preset_of({**values, **{k: v for k, v in said.items() if v is not None}})


def _preset_in(path: str) -> dict[str, Any]:
    try:
        values = json.loads(_bytes(path))
    except (ValueError, UnicodeDecodeError):
        raise BadInput("expected a preset as JSON", file=path) from None
    if not isinstance(values, dict):
        raise BadInput("expected a preset as a JSON object", file=path)
    return values


def _lines(path: str) -> list[str]:
    try:
        return [line.strip() for line in _bytes(path).decode().splitlines() if line.strip()]
    except UnicodeDecodeError:
        raise BadInput("expected a joint's name on each line", file=path) from None


def deliver(args: argparse.Namespace) -> dict[str, Any]:
    """Takes as files in the form of a preset, each read back in a fresh process."""
    preset = _preset(args)
    files: list[dict[str, Any]] = []
    takes: list[Take] = []
    for source in args.files:
        try:
            takes += _read_all(source)
        except BadInput as trouble:
            files.append({"clip": source, "failed": str(trouble), "verified": False})
        if preset.files != "together":
            files += deliver_takes(takes, preset, Path(args.out))
            takes = []
    files += deliver_takes(takes, preset, Path(args.out))
    failed = sum(not f["verified"] for f in files)
    return {"done": len(files) - failed, "failed": failed, "files": files}


def verify(args: argparse.Namespace) -> dict[str, Any]:
    """Whether a file holds what a clip plays, joint by joint and frame by frame."""
    clip = _read(args.against).clip
    preset = preset_of(_preset_in(args.preset)) if args.preset else None
    return verified(_bytes(args.file), args.file, clip, args.first, preset).told()


def join(args: argparse.Namespace) -> dict[str, Any]:
    """Takes one after another, blended where they fit best, with the feet held through it."""
    *sources, out = args.files
    if len(sources) < 2:
        raise BadInput("join: expected two files to be joined at least, and one to be written")
    clip, *others = (_read(source).clip for source in sources)
    n = max(round(args.blend * float(clip.rate)), 1)
    leave, enter = args.at or (None, None)
    parts = [
        {"name": other.name, "before": n, "past": n, "enter": enter, "leave": leave}
        for other in others
    ]
    params = {"leave": leave, "parts": parts}
    patch = OPERATIONS["join"].run(clip, params, inputs={"parts": others})
    joined = apply_patch(clip, patch)
    _write(joined, out)
    seams = [
        {
            "clip": source, "frames": [seam["leave"], seam["enter"]], "at": seam["at"],
            "blended": [seam["first"], seam["last"]],
            "unlike_contacts": seam["unlike"],
            **{name: seam[name] for name in ("distance_mm", "turned_deg", "slide_mm", "good")},
        }
        for source, seam in zip(sources[1:], patch.report["seams"], strict=True)
    ]  # fmt: skip
    return {"frames": joined.frames, "seams": seams}


def _pair(text: str) -> tuple[int, int] | None:
    if text == "auto":
        return None
    try:
        first, second = (int(part) for part in text.split(","))
    except ValueError:
        raise argparse.ArgumentTypeError("expected auto, or two frames such as 240,12") from None
    return first, second


def layers(args: argparse.Namespace) -> dict[str, Any]:
    """A clip's layers, bottom to top, with what each changes."""
    clip = _read(args.file).clip
    return {
        "layers": [
            {
                "name": c.layer.name, "kind": c.layer.kind, "space": c.layer.space,
                "muted": c.layer.muted, "locked": c.layer.locked,
                "parts": list(c.parts), "joints": list(c.joints),
                "max_deg": round(c.change.max_deg, 4), "max_joint": c.change.max_joint,
                "max_frame": c.change.max_frame, "max_mm": round(c.change.max_mm, 3),
                "max_end": c.change.max_end, "max_end_frame": c.change.max_end_frame,
            }
            for c in layer_changes(clip)
        ]
    }  # fmt: skip


def flatten(args: argparse.Namespace) -> dict[str, Any]:
    """Write what the layers make into the clip's own curves."""
    params: dict[str, Any] = {"layers": args.layers or []}
    if args.keyed is not None:
        params |= {"keyed": True, "tolerance_deg": args.keyed}
    return _changed(args, "flatten", params)


def mirror(args: argparse.Namespace) -> dict[str, Any]:
    """The left side's motion on the right, and the right's on the left."""
    return _changed(args, "mirror", {"across": args.across})


def in_place(args: argparse.Namespace) -> dict[str, Any]:
    """The figure kept where it stands, along some axes or all, for the clip or for spans of it."""
    params = {"axes": args.axes, "facing": args.facing, "smooth": args.smooth, "ease": args.ease}
    clip = _read(args.file).clip
    reports = []
    for span in args.spans or [None]:
        patch = OPERATIONS["travel"].run(clip, params, Scope(frames=span))
        clip = apply_patch(clip, patch)
        reports.append(dict(patch.report))
    _write(clip, args.out)
    return {"frames": clip.frames, "spans": reports}


def _flown(clip: Clip) -> list[dict[str, Any]]:
    return [
        {
            "first": f.first, "last": f.last, "gravity": round(f.gravity, 3),
            "arc_mm": round(f.arc_mm, 3),
            "spin_deg": None if f.spin_deg is None else round(f.spin_deg, 3),
        }
        for f in flights_of(clip)
    ]  # fmt: skip


def balance(args: argparse.Namespace) -> dict[str, Any]:
    """Flights led to the path that gravity allows, and turned so that they keep their momentum."""
    clip = _read(args.file).clip
    params = {
        "path": 100.0 * args.path, "turning": 100.0 * args.turning,
        "counter": 100.0 * args.counter, "limbs": args.limbs, "gravity": args.gravity,
    }  # fmt: skip
    patch = OPERATIONS["balance"].run(clip, params)
    done = apply_patch(clip, patch)
    _write(done, args.out)
    return {**patch.report, "before": _flown(clip), "after": _flown(done)}


def loop(args: argparse.Namespace) -> dict[str, Any]:
    """The best loop of a take as a clip of its own, closed, as many times as wanted."""
    clip = _read(args.file).clip
    found = loops_of(clip, 0, clip.frames - 1)
    if args.at is not None:
        first, last = args.at
    elif found:
        first, last = found[0].first, found[0].last
    else:
        raise BadInput("loop: nothing in it comes back to where it began")
    lines: list[tuple[str, dict[str, Any]]] = [
        ("trim", {"first": first, "last": last, "calibration": False}),
        ("close_loop", {"spread": max(last - first - 1, 1)}),
    ]
    if args.cycles > 1:
        lines.append(("repeat", {"times": args.cycles, "offset": "way"}))
    for name, params in lines:
        clip = apply_patch(clip, OPERATIONS[name].run(clip, params))
    cycle = last - first
    goes_on = round_of(clip, 0, cycle)
    _write(clip, args.out)
    return {
        "frames": clip.frames, "first": first, "last": last, "cycle_frames": cycle,
        "travel_mm": round(goes_on.travel_mm, 3), "turned_deg": round(goes_on.turned_deg, 4),
        "loops": [
            {
                "frames": [x.first, x.last], "distance_mm": round(x.distance_mm, 2),
                "moves_mm": round(x.moves_mm, 1), "travel_mm": round(x.goes_on.travel_mm, 1),
                "turned_deg": round(x.goes_on.turned_deg, 3),
                "unlike_contacts": list(x.seam.unlike),
            }
            for x in found
        ],
    }  # fmt: skip


def _span(text: str) -> list[tuple[int, int]]:
    try:
        pairs = [[int(n) for n in part.split("-")] for part in text.split(",")]
        return [(first, last) for first, last in pairs]
    except ValueError:
        raise argparse.ArgumentTypeError("expected spans of frames such as 20-26,80-120") from None


def _changed(args: argparse.Namespace, operation: str, params: dict[str, Any]) -> dict[str, Any]:
    """Write a file's clip after one operation; what that reports."""
    began = time.perf_counter()
    clip = _read(args.file).clip
    patch = OPERATIONS[operation].run(clip, params)
    after = apply_patch(clip, patch)
    _write(after, args.out)
    seconds = round(time.perf_counter() - began, 3)
    return {**patch.report, "frames": after.frames, "seconds": seconds}


def _profile(path: str | None) -> Profile:
    return Profile() if path is None else read_profile(_bytes(path), path)


def retarget(args: argparse.Namespace) -> dict[str, Any]:
    """Retarget a file's performance onto another skeleton."""
    began = time.perf_counter()
    clip, aim = _read(args.file).clip, _read(args.to)
    target = aim.clip
    profile = _profile(args.map).fitting(clip.skeleton, target.skeleton)
    params = {
        "joints": dict(profile.joints), "rest": dict(profile.rest),
        "chains": [c._asdict() for c in profile.chains],
        "feet": args.ends, "hands": args.ends, "plant": args.plant,
    }  # fmt: skip
    patch = OPERATIONS["retarget"].run(clip, params, inputs={"target": target})
    retargeted = apply_patch(clip, patch)
    _write(retargeted, args.out, skin=aim.skin)
    report = dict(patch.report)
    if args.plant:
        report["missed_mm"] = max(report["missed_mm"], plant_figures(retargeted)["missed_mm"])
    return {**report, "seconds": round(time.perf_counter() - began, 3)}


def joint_map(args: argparse.Namespace) -> dict[str, Any]:
    """Which joints of one skeleton give which of another theirs; --out keeps it as a file."""
    clip, target = _read(args.source).clip, _read(args.target).clip
    ours, theirs = (RestFigure.of(c.skeleton, c.reading) for c in (clip, target))
    links = match(ours, theirs)
    rows = told(ours, theirs, links)
    if args.out:
        pairs = {r["target"]: r["sources"][0] if r["sources"] else "" for r in rows
                 if len(r["sources"]) < 2}  # fmt: skip
        _keep(write_profile(Profile(pairs)), args.out)
    return {
        "mapped": sum(link.mapped for link in links.links),
        "unmapped": [r["target"] for r in rows if r["word"] == "follows"],
        "joints": rows,
    }


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="leancurve", description=__doc__)
    commands = parser.add_subparsers(required=True, metavar="command")

    def command(name: str, action: Any, *files: str) -> argparse.ArgumentParser:
        sub = commands.add_parser(name, help=action.__doc__, description=action.__doc__)
        sub.set_defaults(action=action)
        for file in files:
            sub.add_argument(file, metavar=file.upper())
        sub.add_argument("--json", action="store_true", help="print one JSON object")
        return sub

    of_several = [command("inspect", inspect, "file")]
    runner = command("run", run, "file", "out")
    runner.add_argument(
        "--recipe", metavar="FILE", help="run a recipe first; 'all' and 'planted' are built in"
    )
    runner.add_argument("--unflip", action="store_true", help="make rotation curves continuous")
    runner.add_argument("--calm", action="store_true", help="fill gaps, take spikes and noise out")
    runner.add_argument("--plant", action="store_true", help="hold feet where they stand")
    runner.add_argument(
        "--thin", type=float, metavar="DEG", help="few keys, within DEG degrees per channel"
    )
    runner.add_argument(
        "--thin-mm", type=float, default=1.0, metavar="MM", help="position channels, millimetres"
    )
    runner.add_argument("--poses", type=int, metavar="N", help="about N key poses instead")
    many = command("batch", batch)
    many.add_argument(
        "--recipe", metavar="FILE", required=True, help="a recipe, 'all' or 'planted'"
    )
    many.add_argument("--out", metavar="DIR", required=True, help="where results are written")
    many.add_argument("--format", choices=("bvh", "json"), help="as the file came when absent")
    many.add_argument("--jobs", type=int, metavar="N", help="how many at once; one a processor")
    many.add_argument("files", nargs="+", metavar="FILE")
    command("operations", operations)
    command("compare", compare, "a", "b")
    of_several += [runner, command("convert", convert, "file", "out")]
    for one in of_several:
        one.add_argument("--take", metavar="NAME", help="of a file with several; else the first")
        one.add_argument("--skeleton", metavar="FILE", help="that a table of channels is read onto")
        one.add_argument(
            "--rate", type=_frames_a_second, metavar="N", help="read it at N frames a second"
        )
        one.add_argument(
            "--order",
            action="append",
            default=[],
            metavar="[JOINT=]ORDER",
            help="of rotations that come as quaternions: XYZ, XZY, YXZ, YZX, ZXY or ZYX",
        )
        one.add_argument(
            "--keyed",
            type=float,
            metavar="DEG",
            help="rotations between keys stay keyed, within DEG degrees",
        )
    giver = command("deliver", deliver)
    giver.add_argument("files", nargs="+", metavar="FILE")
    giver.add_argument("--out", metavar="DIR", required=True, help="where files are put")
    giver.add_argument("--preset", metavar="FILE", help="the form they are delivered in")
    giver.add_argument("--format", choices=get_args(Format))
    giver.add_argument("--rate", type=_frames_a_second, metavar="N", help="frames a second")
    giver.add_argument("--joints", metavar="FILE", help="these alone: a name on each line")
    giver.add_argument("--root", choices=("hips", "floor"), help="what carries the travel")
    giver.add_argument("--spline", type=float, metavar="DEG", help="glTF: splines within DEG")
    giver.add_argument(
        "--together", action="store_true", help="glTF: all clips on a skeleton in one file"
    )
    checker = command("verify", verify, "file")
    checker.add_argument("--against", metavar="CLIP", required=True, help="what it shall hold")
    checker.add_argument(
        "--first", type=int, default=0, metavar="N", help="the clip's frame that it begins at"
    )
    checker.add_argument("--preset", metavar="FILE", help="the form that it was delivered in")
    joiner = command("join", join)
    joiner.add_argument("files", nargs="+", metavar="FILE", help="two or more, then the new one")
    joiner.add_argument(
        "--at", type=_pair, metavar="FRAME,FRAME", help="of the one and of the next; else the best"
    )
    joiner.add_argument(
        "--blend", type=float, default=BLEND_S, metavar="S", help="seconds before and after"
    )
    mirrorer = command("mirror", mirror, "file", "out")
    mirrorer.add_argument(
        "--across", choices=("figure", "world"), default="figure", help="the plane it is behind"
    )
    stayer = command("inplace", in_place, "file", "out")
    stayer.add_argument(
        "--axes", type=lambda text: text.split(","), default=[], metavar="x,z,heading",
        help="what is taken away; all of it when absent",
    )  # fmt: skip
    stayer.add_argument("--spans", type=_span, metavar="A-B,…", help="these frames alone")
    stayer.add_argument("--facing", choices=get_args(Facing), default="hips", help="what faces")
    stayer.add_argument("--smooth", type=float, default=0.0, metavar="S", help="leaves the sway")
    stayer.add_argument("--ease", type=int, default=12, metavar="N", help="frames to come and go")
    balancer = command("balance", balance, "file", "out")
    for name, usual, about in (
        ("path", 1.0, "how closely flights follow gravity, 0 to 1"),
        ("turning", 1.0, "how far they keep their momentum, 0 to 1"),
        ("counter", 0.0, "how much of that limbs do, 0 to 1"),
    ):
        balancer.add_argument(f"--{name}", type=float, default=usual, metavar="SHARE", help=about)
    balancer.add_argument("--limbs", choices=("arms", "legs", "arms and legs"), default="arms")
    balancer.add_argument("--gravity", type=float, metavar="N", help="m/s²; else as on Earth")
    looper = command("loop", loop, "file", "out")
    looper.add_argument("--at", type=_pair, metavar="FRAME,FRAME", help="this span, not the best")
    looper.add_argument("--cycles", type=int, default=1, metavar="N", help="as often in a row")
    command("layers", layers, "file")
    flattener = command("flatten", flatten, "file", "out")
    flattener.add_argument(
        "--keyed", type=float, metavar="DEG", help="keys within DEG degrees, not a value a frame"
    )
    flattener.add_argument("--layers", nargs="+", metavar="NAME", help="these alone, by name")
    carrier = command("retarget", retarget, "file", "out")
    carrier.add_argument("--to", metavar="SKELETON", required=True, help="a file of the skeleton")
    carrier.add_argument("--map", metavar="FILE", help="a map of joints that was kept")
    carrier.add_argument(
        "--ends", type=float, default=1.0, metavar="SHARE", help="how far hands and feet are led"
    )
    carrier.add_argument("--plant", action="store_true", help="hold feet where they stand")
    mapper = command("map", joint_map, "source", "target")
    mapper.add_argument("--out", metavar="FILE", help="keep it, for --map")
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Exit code 0, or 2 with one line on standard error for input that cannot be used."""
    args = _parser().parse_args(arguments)
    try:
        result = args.action(args)
    except BadInput as trouble:
        print(f"leancurve: {' '.join(str(trouble).split())}", file=sys.stderr)
        return 2
    try:
        if args.json:
            print(json.dumps(result))
        else:
            _print(result)
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever reads has seen enough; what is left in the buffer has nowhere to go.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    return 0


def _said(file: dict[str, Any]) -> str:
    """What came of one file of many, in a line."""
    if "failed" in file:
        return str(file["failed"])
    if "path" in file:
        off = f"{file['max_error_deg']:.2g}°, {file['max_error_mm']:.2g} mm"
        return f"{file['path']}, read back: {off}"
    return f"{file['keys_before']} → {file['keys_after']} keys"


def _print(result: dict[str, Any]) -> None:
    """A result for people: one value a line, lists of findings and files as tables."""
    for key, value in result.items():
        if key == "findings":
            counts = Counter(f["kind"] for f in value)
            print(f"{key:>16}  {', '.join(f'{n} {kind}' for kind, n in counts.items()) or 'none'}")
        elif key == "takes" and isinstance(value, list):
            for take in value:
                told = f"{take['frames']} frames at {take['rate']:g}, {take['joints']} joints"
                print(f"{'take':>16}  {take['name']}: {told}")
        elif key == "files":
            for file in value:
                print(f"{file.get('file') or file['clip']:>16}  {_said(file)}")
        elif key == "joints" and isinstance(value, list):
            for row in value:
                print(f"{row['target']:>24}  {' + '.join(row['sources']) or '-'}  ({row['word']})")
        elif isinstance(value, dict) and "params" in value:
            print(f"{key}: {value['about']}")
            for p in value["params"]:
                bounds = " ".join(
                    f"{word} {p[name]}"
                    for name, word in (("least", "from"), ("most", "to"))
                    if p[name] is not None
                )
                choice = "|".join(p["choices"]) or p["kind"]
                about = f"{choice} {p['unit']} {bounds}, default {p['default']}".replace("  ", " ")
                print(f"  {p['name']}: {about}. {p['description']}")
        else:
            print(f"{key:>16}  {value}")


if __name__ == "__main__":
    sys.exit(main())
