"""Random work, with all that takes away going on in between, by two processes whose caches each
know nothing of what the other did: afterwards everything that should be there opens, and is what a
plain model says.
"""

from __future__ import annotations

import random
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.hand import Hands
from tests.trials.people import make_people, short_file


@dataclass
class Clip:
    """What a clip is to hold: what each of its revisions shows, and where it stands."""

    head: int
    beneath: int
    take: int
    lines: list[str]
    shows: dict[int, str] = field(default_factory=dict)
    takes: set[int] = field(default_factory=set)
    binned: int | None = None
    """0 by itself, else with which take."""
    retargeted: bool = False


@dataclass
class Model:
    """The plain way: everything in dictionaries."""

    takes: dict[int, bool] = field(default_factory=dict)
    """Takes on the shelf, and whether they are in the bin."""
    clips: dict[int, Clip] = field(default_factory=dict)
    deliveries: dict[int, tuple[int, str]] = field(default_factory=dict)

    def keep(self, told: dict[str, Any], take: int | None = None) -> None:
        clip = self.clips.get(told["clip"])
        if clip is None:
            assert take is not None
            clip = self.clips[told["clip"]] = Clip(told["head"], told["beneath"], take, [])
        clip.head, clip.beneath, clip.lines = told["head"], told["beneath"], told["lines"]
        clip.shows[told["head"]] = told["shows"]
        clip.takes.add(told["beneath"])
        # What a clip lies on is in no bin.
        self.takes[told["beneath"]] = False

    def open_ones(self) -> list[int]:
        return [k for k, c in self.clips.items() if c.binned is None]

    def empty(self) -> None:
        gone = {k for k, c in self.clips.items() if c.binned is not None}
        for k in gone:
            del self.clips[k]
        self.deliveries = {k: d for k, d in self.deliveries.items() if d[0] not in gone}
        beneath = {t for c in self.clips.values() for t in (*c.takes, c.take)}
        for k in [k for k, binned in self.takes.items() if binned and k not in beneath]:
            del self.takes[k]


GROUPS = ("left arm", "right arm", "spine", "left leg")


def run(folder: Path, steps: int = 600) -> Table:
    application = Application(folder, "lean_forgetting")
    application.make()
    hands: list[Hands] = []
    try:
        make_people(application.environment, ["hand"], "Forgetting")
        hands = [Hands(application.environment) for _ in range(2)]
        return on(hands, steps)
    finally:
        for hand in hands:
            hand.end()
        application.stop()


def on(hands: list[Hands], steps: int) -> Table:
    table = Table(
        f"Forgetting: {steps} steps by two processes with small caches", ("what", "count", "goal")
    )
    dice, model, count = random.Random(23), Model(), Counter[str]()
    lost: list[str] = []
    for k in range(4):
        data = short_file(60 * k, 60 * k + 44).hex()
        made = hands[k % 2].ask("bring_in", name=f"take{k}.bvh", data=data)
        model.takes[made["take"]] = False
    for take in list(model.takes):
        model.keep(dice.choice(hands).ask("open", take=take), take)
    for at in range(steps):
        step(dice.choice(hands), dice, model, count, lost)
        if at % 100 == 99 or at == steps - 1:
            count["opened"] += compared(dice.choice(hands), model, lost)
        if not model.open_ones():
            data = short_file(10 * at % 500, 10 * at % 500 + 44).hex()
            made = dice.choice(hands).ask("bring_in", name=f"more{at}.bvh", data=data)
            model.takes[made["take"]] = False
            model.keep(dice.choice(hands).ask("open", take=made["take"]), made["take"])
    for what in ("write", "move", "remove", "swap", "retarget", "again", "deliver"):
        table.add(what, str(count[what]), "")
    taken = {what: count[what] for what in ("bin", "put back", "empty", "pruned", "swept")}
    table.add("binned, put back, emptied", ", ".join(str(taken[x]) for x in list(taken)[:3]), "")
    table.add("states pruned, parts swept", f"{taken['pruned']}, {taken['swept']}", "")
    table.add("revisions that opened as the model says", str(count["opened"]), "")
    table.add("refused", str(count["refused"]), "")
    table.add("lost, changed or not whole", str(len(lost)), "0")
    for what in lost[:5]:
        print("    lost:", what)
    return table


def step(
    hand: Hands, dice: random.Random, model: Model, count: Counter[str], lost: list[str]
) -> None:
    """One thing that somebody, or the hour, does."""
    clips = model.open_ones()
    kind = dice.choices(
        ["write", "move", "remove", "swap", "retarget", "again", "deliver", "bin", "put back",
         "empty", "tidy"],
        [30, 14, 8, 10, 1, 3, 3, 4, 3, 2, 12],
    )[0]  # fmt: skip
    answer: dict[str, Any] = {}
    pk = dice.choice(clips) if clips else 0
    clip = model.clips.get(pk)
    if kind == "write" and clip:
        scope = {"groups": [dice.choice(GROUPS)]}
        params = {"factor": round(dice.uniform(0.8, 1.2), 4)}
        answer = hand.ask(
            "write", clip=pk, base=clip.head, append="gain", params=params, scope=scope
        )
    elif kind == "move" and clip:
        how = dice.choice(["undo", "redo", "jump"])
        answer = hand.ask(
            "move", clip=pk, base=clip.head, how=how, to=dice.choice(list(clip.shows))
        )
    elif kind == "remove" and clip and len(clip.lines) > 2 + clip.retargeted:
        line = dice.choice(clip.lines[1 + clip.retargeted :])
        answer = hand.ask("write", clip=pk, base=clip.head, remove=line)
    elif kind == "swap" and clip and not clip.retargeted:
        others = [t for t, binned in model.takes.items() if not binned]
        if others:
            answer = hand.ask("write", clip=pk, base=clip.head, swap=dice.choice(others))
    elif kind == "retarget" and clip and not clip.retargeted and len(clip.shows) < 60:
        answer = hand.ask("retarget", clip=pk, base=clip.head, target=clip.beneath)
        if "clip" in answer:
            model.takes[answer["take"]] = False
            model.keep(answer, answer["take"])
            model.clips[answer["clip"]].retargeted = True
            # Its first step is the take as read.
            count["retarget"] += 1
            return
    elif kind == "again" and clip and clip.retargeted:
        answer = hand.ask("again", clip=pk, base=clip.head)
        if "beneath" in answer:
            model.takes.setdefault(answer["beneath"], False)
    elif kind == "deliver" and clip:
        answer = hand.ask("deliver", clip=pk, base=clip.head)
        if "delivery" in answer:
            model.deliveries[answer["delivery"]] = (pk, answer["holds"])
            count["deliver"] += 1
            return
    elif kind == "bin":
        _bin(hand, dice, model)
        count["bin"] += 1
        return
    elif kind == "put back":
        _put_back(hand, dice, model)
        count["put back"] += 1
        return
    elif kind == "empty":
        hand.ask("empty")
        model.empty()
        count["empty"] += 1
        return
    elif kind == "tidy":
        told = hand.ask("tidy", prune=dice.random() < 0.7, sweep=dice.random() < 0.8)
        count["pruned"] += told.get("pruned", 0)
        count["swept"] += told.get("blobs", 0)
        lost += [f"not whole: {x}" for x in told.get("troubles", [])]
        lost += [told["failed"]] if "failed" in told else []
        return
    if "failed" in answer:
        lost.append(f"{kind}: {answer['failed']}")
    elif "refused" in answer:
        count["refused"] += 1
    elif answer:
        known = clip.shows.get(answer["head"]) if clip else None
        if known is not None and known != answer["shows"]:
            lost.append(f"{kind}: revision {answer['head']} shows something else")
        model.keep(answer)
        count[kind] += 1


def _bin(hand: Hands, dice: random.Random, model: Model) -> None:
    if dice.random() < 0.5 and model.open_ones():
        pk = dice.choice(model.open_ones())
        hand.ask("bin", kind="clip", pk=pk)
        model.clips[pk].binned = 0
    else:
        free = [t for t, binned in model.takes.items() if not binned]
        if len(free) > 2:
            pk = dice.choice(free)
            hand.ask("bin", kind="take", pk=pk)
            model.takes[pk] = True
            for clip in model.clips.values():
                if clip.beneath == pk and clip.binned is None:
                    clip.binned = pk


def _put_back(hand: Hands, dice: random.Random, model: Model) -> None:
    """A take with what went along, or a clip by itself."""
    takes = [("take", t) for t, binned in model.takes.items() if binned]
    clips = [("clip", k) for k, c in model.clips.items() if c.binned == 0]
    if not takes and not clips:
        return
    kind, pk = dice.choice([*takes, *clips])
    if "refused" in hand.ask("put_back", kind=kind, pk=pk):
        return  # it was emptied out before, and stays hidden
    if kind == "take":
        model.takes[pk] = False
        for clip in model.clips.values():
            clip.binned = None if clip.binned == pk else clip.binned
    else:
        clip = model.clips[pk]
        clip.binned = None
        model.takes[clip.beneath] = False


def compared(hand: Hands, model: Model, lost: list[str]) -> int:
    """Everything opened with nothing at hand, beside what the model says; how many revisions."""
    opened = 0
    there = hand.ask("all")
    if "failed" in there:
        lost.append(there["failed"])
        return 0
    lost += [f"not whole: {x}" for x in there["troubles"]]
    clips = {int(k): v for k, v in there["clips"].items()}
    if set(clips) != set(model.clips):
        lost.append(f"clips {sorted(set(clips) ^ set(model.clips))}")
    if sorted(there["seen"]) != sorted(model.open_ones()):
        lost.append(f"seen {sorted(set(there['seen']) ^ set(model.open_ones()))}")
    for pk, clip in model.clips.items():
        now = {int(k): v for k, v in clips.get(pk, {}).items()}
        for revision, shows in clip.shows.items():
            opened += 1
            if now.get(revision) != shows:
                lost.append(f"clip {pk}, revision {revision}")
    deliveries = {int(k): v for k, v in there["deliveries"].items()}
    if deliveries != {k: holds for k, (_, holds) in model.deliveries.items()}:
        lost.append("deliveries")
    return opened
