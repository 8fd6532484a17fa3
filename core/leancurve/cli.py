"""``leancurve``: inspect, run, compare and convert takes from the command line."""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from leancurve.clip import Clip
from leancurve.continuity import find_flips
from leancurve.errors import BadInput
from leancurve.formats.bvh import Take
from leancurve.formats.files import read_take, write_take
from leancurve.measure import drift
from leancurve.operations import OPERATIONS, apply_patch


def _read(path: str) -> Take:
    try:
        data = Path(path).read_bytes()
    except OSError as trouble:
        raise BadInput(trouble.strerror or str(trouble), file=path) from None
    return read_take(data, path)


def _write(clip: Clip, path: str, recipe: Sequence[dict[str, Any]] = ()) -> None:
    data = write_take(clip, path, recipe)
    try:
        Path(path).write_bytes(data)
    except OSError as trouble:
        raise BadInput(trouble.strerror or str(trouble), file=path) from None


def _rate(clip: Clip) -> float:
    return round(float(clip.rate), 6)


def inspect(args: argparse.Namespace) -> dict[str, Any]:
    """What a file holds and what stands out in it."""
    take = _read(args.file)
    clip = take.clip
    flips = find_flips(clip)
    return {
        "name": clip.name,
        "joints": len(clip.skeleton),
        "frames": clip.frames,
        "rate": _rate(clip),
        "channels": len(clip.channels),
        "flips": {"wraps": len(flips.wraps), "alternates": len(flips.alternates)},
        "snaps": len(flips.snaps),
        "duration_s": round(clip.duration_s, 6),
        "metres_per_unit": clip.reading.metres_per_unit,
        "notes": list(take.notes),
        "warnings": list(take.warnings),
    }


def run(args: argparse.Namespace) -> dict[str, Any]:
    """Unflip and thin a file; measure the result against what was read."""
    take = _read(args.file)
    began = time.perf_counter()
    clip = take.clip
    recipe: list[dict[str, Any]] = []
    report: dict[str, Any] = {
        "keys_before": clip.key_count,
        "keys_after": clip.key_count,
        "keys_bound": None,
        "max_error_deg": 0.0,
    }
    chosen: list[tuple[str, dict[str, Any]]] = []
    if args.unflip:
        chosen.append(("unflip", {}))
    if args.thin is not None:
        chosen.append(("thin", {"tolerance_deg": args.thin, "tolerance_mm": args.thin_mm}))
    for name, params in chosen:
        patch = OPERATIONS[name].run(clip, params)
        clip = apply_patch(clip, patch)
        recipe.append(
            {"operation": name, "version": OPERATIONS[name].version, "params": params, "scope": {}}
        )
        if name == "unflip":
            report["flips"] = {k: patch.report[k] for k in ("wraps", "alternates", "snaps")}
        else:
            report.update(patch.report)
    moved = drift(clip, take.clip)
    report |= {
        "max_drift_deg": moved.max_deg,
        "rms_drift_deg": moved.rms_deg,
        "max_drift_mm": moved.max_mm,
        "seconds": round(time.perf_counter() - began, 4),
    }
    _write(clip, args.out, recipe)
    return report


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
    clip = _read(args.file).clip
    _write(clip, args.out)
    return {"frames": clip.frames, "channels": len(clip.channels), "keys": clip.key_count}


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

    command("inspect", inspect, "file")
    runner = command("run", run, "file", "out")
    runner.add_argument("--unflip", action="store_true", help="make rotation curves continuous")
    runner.add_argument(
        "--thin", type=float, metavar="DEG", help="few keys, within DEG degrees per channel"
    )
    runner.add_argument(
        "--thin-mm", type=float, default=1.0, metavar="MM", help="position channels, millimetres"
    )
    command("compare", compare, "a", "b")
    command("convert", convert, "file", "out")
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Exit code 0, or 2 with one line on standard error for input that cannot be used."""
    args = _parser().parse_args(arguments)
    try:
        result = args.action(args)
    except BadInput as trouble:
        print(f"leancurve: {' '.join(str(trouble).split())}", file=sys.stderr)
        return 2
    if args.json:
        print(json.dumps(result))
    else:
        for key, value in result.items():
            print(f"{key:>16}  {value}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
