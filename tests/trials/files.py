"""Files that are broken in many ways: each is read or refused, in time, memory and one sentence.

Mutated ones are real takes of which bytes, numbers, lines or values were changed, each from a seed
of its own; chosen ones are those that once did harm, or that somebody would think of.
"""

from __future__ import annotations

import json
import random
import time
from collections import Counter
from collections.abc import Callable, Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

from django.conf import settings
from leancurve.demo import TAKES, captured
from leancurve.errors import BadInput
from leancurve.formats.bvh import write_bvh
from leancurve.formats.clipjson import write_clip
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.progress import silent
from leancurve.time.resample import resampled
from library.apart import apart
from library.parsing import Looked, Wanted, look_at

from tests.bench.tables import Table
from tests.core import test_archive, test_gltf, test_skins, test_usd

SECONDS = 20.0
"""No short file may take longer; what takes longer is counted as a hang."""
LONGEST_MESSAGE = 450
NASTY = [b"nan", b"1e999", b"-1e300", b"0x10", b"1_0", b"", b"9" * 400, b"\x00", "é漢".encode(),
         b"{", b"}", b"-0.0", b"1e-320", b"[]", b"null", b'"\\ud800"']  # fmt: skip


def sources() -> dict[str, bytes]:
    """A short take as BVH, keyed clip JSON, GLB with a body and a prop, and USD both ways."""
    short = resampled(captured(TAKES[2]).clip, Fraction(30), 0, 45)
    keyed = apply_patch(short, OPERATIONS["thin"].run(short, {"tolerance_deg": 2.0}))
    return {
        "take.bvh": write_bvh(short), "take.json": write_clip(keyed),
        "take.glb": test_skins.fleshed(8)[0].glb(), "take.usda": test_usd.TEXT.encode(),
        "take.usdc": test_usd.CRATE,
    }  # fmt: skip


def mutated(data: bytes, seed: int) -> bytes:
    """The file with one to four things wrong with it."""
    dice = random.Random(seed)
    for _ in range(dice.randint(1, 4)):
        data = dice.choice(WAYS)(data, dice)
    return data


def _bytes(data: bytes, dice: random.Random) -> bytes:
    out = bytearray(data)
    for _ in range(dice.randint(1, 20)):
        if out:
            out[dice.randrange(len(out))] = dice.randrange(256)
    return bytes(out)


def _cut(data: bytes, dice: random.Random) -> bytes:
    return data[: dice.randrange(len(data) + 1)]


def _words(data: bytes, dice: random.Random) -> bytes:
    at = dice.randrange(len(data) + 1)
    end = min(at + dice.randint(0, 30), len(data))
    return data[:at] + dice.choice(NASTY) + data[end:]


def _lines(data: bytes, dice: random.Random) -> bytes:
    lines = data.split(b"\n")
    a, b = dice.randrange(len(lines)), dice.randrange(len(lines))
    way = dice.randrange(3)
    if way == 0:
        lines[a], lines[b] = lines[b], lines[a]
    elif way == 1:
        del lines[min(a, b) : max(a, b)]
    else:
        lines[a:a] = lines[b : b + dice.randint(1, 50)]
    return b"\n".join(lines)


def _numbers(data: bytes, dice: random.Random) -> bytes:
    words = data.split(b" ")
    for _ in range(dice.randint(1, 5)):
        words[dice.randrange(len(words))] = dice.choice(NASTY)
    return b" ".join(words)


def _values(data: bytes, dice: random.Random) -> bytes:
    """Something somewhere in a JSON document becomes something else."""
    try:
        document = json.loads(data)
    except ValueError:
        return _bytes(data, dice)
    at: Any = document
    while isinstance(at, dict | list) and at:
        key = dice.choice(list(at)) if isinstance(at, dict) else dice.randrange(len(at))
        if not isinstance(at[key], dict | list) or dice.random() < 0.15:
            new: list[Any] = [
                None, True, -1, 0, 2**31, 2**63, 1e308, "", "x" * 1000, [], {}, [[]], {"a": 1},
                "\x00", 40.0, 0.5,
            ]  # fmt: skip
            at[key] = dice.choice(new)
            break
        at = at[key]
    return json.dumps(document).encode()


WAYS: list[Callable[[bytes, random.Random], bytes]] = [
    _bytes, _cut, _words, _lines, _numbers, _values, _values,
]  # fmt: skip

HEADER = b"HIERARCHY\nROOT hips\n{\nOFFSET 0 0 0\nCHANNELS 1 Yposition\n"
CLOSED = HEADER + b"End Site\n{\nOFFSET 0 1 0\n}\n}\nMOTION\n"
MOTION = CLOSED + b"Frames: 2\nFrame Time: 0.01\n"


def chosen() -> Iterator[tuple[str, str, bytes]]:
    """What each is, its name, its bytes."""
    for frames in (20_000_000, 999_999_999):
        text = b"Frames: %d\nFrame Time: 0.01\n" % frames
        yield (f"{frames:,} frames of nothing", "a.bvh",
               CLOSED.replace(b"1 Yposition", b"0") + text)  # fmt: skip
    yield "50 MB of braces", "a.bvh", b"{" * 50_000_000
    yield "50 MB of braces as JSON", "a.json", b"{" * 50_000_000
    yield "50 MB of brackets as JSON", "a.json", b"[" * 50_000_000
    yield "50 MB of blank motion lines", "a.bvh", MOTION + b"1\n" + b"\n" * 50_000_000 + b"2\n"
    siblings = b"".join(b"JOINT j%d\n{\nOFFSET 0 0 0\nCHANNELS 0\n}\n" % k for k in range(4_999))
    yield ("4,999 sibling joints", "a.bvh",
           HEADER + siblings + b"}\nMOTION\nFrames: 1\nFrame Time: 0.01\n1\n")  # fmt: skip
    yield "a position of 1e160", "a.bvh", MOTION + b"1e160\n1\n"
    yield "an offset of 1.7e308", "a.bvh", MOTION.replace(b"0 0 0", b"1.7e308 0 0") + b"1\n1\n"
    yield "a name of 50 MB", "a.bvh", b"HIERARCHY\nROOT " + b"n" * 50_000_000
    yield "a name with NUL", "a.bvh", MOTION.replace(b"hips", b"hi\0ps") + b"1\n1\n"
    yield (
        "a name of other alphabets",
        "été 漢.bvh",
        MOTION.replace(b"hips", "hüfte漢".encode()) + b"1\n1\n",
    )
    document = json.loads(sources()["take.json"])
    changes: dict[str, Callable[[dict[str, Any]], Any]] = {
        "2,000,000 frames of 65 joints": lambda d: d.update(frames=2_000_000),
        "a rate beyond 32 bits": lambda d: d.update(rate=[2**40 + 1, 2**39]),
        "a rate of 1/1e14": lambda d: d.update(rate=[1, 10**14]),
        "a rate written 60.0": lambda d: d.update(rate=[60.0, 1.0]),
        "frames written 40.0": lambda d: d.update(frames=float(d["frames"])),
        "an end that names no joint": lambda d: d["skeleton"]["ends"][0].update(parent=99999),
        "a name of 300 characters": lambda d: d["skeleton"]["joints"][0].update(name="x" * 300),
        "half a surrogate pair": lambda d: d.update(name="\ud800"),
    }
    for name, change in changes.items():
        copy = json.loads(json.dumps(document))
        change(copy)
        yield name, "a.json", json.dumps(copy).encode()


def strange() -> Iterator[tuple[str, str, bytes]]:
    """Files of the formats that others write, each wrong in a way of its own."""
    for name, wrong in (
        ("a.glb", test_gltf.WRONG), ("a.usd", test_usd.WRONG), ("a.zip", test_archive.WRONG),
    ):  # fmt: skip
        for what, (data, _) in wrong.items():
            yield what, name, data


def tried(name: str, data: bytes) -> str:
    """``read``, ``refused``, or what went wrong."""
    began = time.monotonic()
    try:
        looked = apart(look_at, (data, name, Wanted()), name, silent)
        outcome = "read" if all(isinstance(x, Looked) for x in looked) else "crash"
    except BadInput as trouble:
        said = str(trouble)
        outcome = "refused"
        if "time or memory" in said or "took over" in said:
            outcome = "hang"
        elif len(said) > LONGEST_MESSAGE:
            outcome = "long message"
    except Exception:
        outcome = "crash"
    return "hang" if time.monotonic() - began > SECONDS else outcome


def run(folder: Path, count: int = 500) -> Table:
    """``count`` mutated files a format, and the chosen ones."""
    del folder
    settings.INTAKE_MEMORY_BYTES = min(settings.INTAKE_MEMORY_BYTES, 3 * 2**30)
    table = Table(
        f"Broken files: {count} mutated ones a format, and chosen ones",
        ("what", "tried", "read", "refused", "crashes", "hangs", "long messages"),
    )

    def add(what: str, outcomes: Counter[str]) -> None:
        table.add(
            what, str(outcomes.total()), str(outcomes["read"]), str(outcomes["refused"]),
            str(outcomes["crash"]), str(outcomes["hang"]), str(outcomes["long message"]),
        )  # fmt: skip

    for name, data in sources().items():
        add(name.rpartition(".")[2], Counter(
            tried(name, mutated(data, seed)) for seed in range(count)
        ))  # fmt: skip
    add("chosen", Counter(tried(name, data) for _, name, data in chosen()))
    # Of addresses: what the libraries map before any file is read takes half of them.
    settings.INTAKE_MEMORY_BYTES = min(settings.INTAKE_MEMORY_BYTES, 2 * 2**30)
    add("glTF, USD and zips", Counter(tried(name, data) for _, name, data in strange()))
    return table
