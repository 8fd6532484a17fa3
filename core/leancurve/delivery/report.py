"""The report of a delivery: plain values, and a page of its own that prints on two sheets.

The page needs nothing beside it: its styles and plots are in it. Curves are told apart by how they
are dashed, so it reads without colour.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape
from typing import Any

import numpy as np

from leancurve.curves.curve import KeyedCurve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate, posed
from leancurve.measures.drift import baseline_with_ends, end_points
from leancurve.measures.findings.base import Motion
from leancurve.measures.findings.floor import inner_frames, slides_mm
from leancurve.measures.layers import layer_changes
from leancurve.measures.picture import Picture, picture
from leancurve.measures.travel import round_of
from leancurve.numbers.arrays import Floats

POINTS = 240
"""Of a plot: the largest of what lies between two of them."""
POSES = 6
MOST_ROWS = 12
"""Of a list that prints on two sheets; how many more there are is said."""
SAME = 1e-9


def series(clip: Clip, take: Clip | None) -> dict[str, Any]:
    """What is plotted over a clip's time: how far ends were moved from where the take has them,
    feet from where they were set down in both, and keys a second. ``take`` is what it was made of,
    on the clip's time; None where that has another skeleton."""
    out: dict[str, Any] = {"seconds": _at(clip), "change_mm": None, "slide_before_mm": None}
    if take is not None and take.frames == clip.frames:
        names, ours = end_points(clip, posed(clip))
        _, theirs = end_points(baseline_with_ends(take, names), posed(take))
        moved = np.linalg.norm(ours * clip.millimetres - theirs * take.millimetres, axis=-1)
        out["change_mm"] = _fewer(moved.max(axis=1, initial=0.0))
        before = Motion(take)
        out["slide_before_mm"] = _fewer(slides_mm(before))
        out["slide_after_mm"] = _fewer(slides_mm(Motion(clip), before.once(inner_frames)))
    else:
        out["slide_after_mm"] = _fewer(slides_mm(Motion(clip)))
    out["keys_a_second"] = _fewer(_keys(clip))
    return out


def _at(clip: Clip) -> list[float]:
    count = min(POINTS, max(clip.frames, 1))
    return [round(float(s), 3) for s in np.linspace(0.0, clip.duration_s, count)]


def _fewer(values: Floats) -> list[float]:
    """The largest value of as many stretches as are plotted."""
    count = min(POINTS, max(len(values), 1))
    parts = np.array_split(values, count) if len(values) else [np.zeros(1)]
    return [round(float(p.max(initial=0.0)), 3) for p in parts]


def _keys(clip: Clip) -> Floats:
    """Keys a second around each frame ``(F,)``: those of half a second on either side."""
    count = np.zeros(max(clip.frames, 1))
    for curve in clip.curves.values():
        if isinstance(curve, KeyedCurve):
            at = np.clip(np.rint(curve.time).astype(int), 0, len(count) - 1)
            np.add.at(count, at, 1.0)
        else:
            count += 1.0
    wide = max(round(float(clip.rate)), 1)
    summed = np.concatenate([[0.0], np.cumsum(count)])
    frames = np.arange(len(count))
    first, last = np.maximum(frames - wide // 2, 0), np.minimum(frames + wide // 2 + 1, len(count))
    return np.asarray((summed[last] - summed[first]) * float(clip.rate) / (last - first))


def key_poses(clip: Clip) -> dict[str, Any]:
    """Six poses spread over the clip, drawn flat, and their frames."""
    frames = np.unique(np.linspace(0, max(clip.frames - 1, 0), POSES).astype(int))
    drawn: Picture = picture(clip, at=frames.astype(np.float64))
    return {"frames": frames.tolist(), "figures": drawn["figures"]}


def layers_told(clip: Clip) -> list[dict[str, Any]]:
    """What each layer changes, bottom to top."""
    return [
        {
            "name": c.layer.name, "kind": c.layer.kind, "muted": c.layer.muted,
            "deg": round(c.change.max_deg, 3), "joint": c.change.max_joint,
            "mm": round(c.change.max_mm, 2), "end": c.change.max_end,
            "frame": c.change.max_frame,
        }
        for c in layer_changes(clip)
    ]  # fmt: skip


def travelled(clip: Clip) -> float:
    """How far the figure's root goes over the floor, metres."""
    _, places = evaluate(clip).world(clip.skeleton)
    flat = [a for a in range(3) if "xyz"[a] != clip.reading.up_axis]
    steps = np.diff(places[:, clip.skeleton.root][:, flat], axis=0)
    return float(np.linalg.norm(steps, axis=1).sum() * clip.reading.metres_per_unit)


def goes_on(clip: Clip, first: int = 0, last: int | None = None) -> dict[str, float]:
    """Where it ends, from where it begins: what a loop goes on by in each round."""
    found = round_of(clip, first, max(clip.frames - 1, 0) if last is None else last)
    return {"mm": round(found.travel_mm, 2), "deg": round(found.turned_deg, 3)}


# --- the page -------------------------------------------------------------------------------------

STYLE = """
@page { size: A4; margin: 14mm }
* { box-sizing: border-box }
body { font: 12px/1.45 "IBM Plex Sans", "Segoe UI", Arial, sans-serif; color: #1c2b39;
  background: #fff; max-width: 186mm; margin: 16px auto; padding: 0 12px }
h1 { font-size: 20px; margin: 0 0 2px } h2 { font-size: 13px; margin: 14px 0 4px;
  border-bottom: 1px solid #9aa7b2; padding-bottom: 2px; break-after: avoid }
p { margin: 2px 0 } .quiet { color: #55636f }
table { width: 100%; border-collapse: collapse; break-inside: auto }
th { text-align: left; font-weight: 400; color: #55636f } th, td { padding: 2px 8px 2px 0;
  vertical-align: top } tr { break-inside: avoid } tr + tr td { border-top: 1px solid #dde3e8 }
.n { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap }
.wide { overflow-wrap: anywhere } .bad { font-weight: 700 }
dl { display: grid; grid-template-columns: max-content 1fr max-content 1fr; gap: 1px 12px;
  margin: 6px 0 } dt { color: #55636f } dd { margin: 0; overflow-wrap: anywhere }
svg { width: 100%; height: auto; display: block } figure { margin: 0; break-inside: avoid }
.two { display: grid; grid-template-columns: 1fr 1fr; gap: 0 18px }
.second { break-before: page } @media screen { .second { border-top: 1px dashed #9aa7b2 } }
"""


def page(report: Mapping[str, Any]) -> str:
    """The report as a page of HTML."""
    plots, files = report["plots"], report["files"]
    parts = [
        f"<h1>{_t(report['clip'])}</h1>",
        f'<p class="quiet">Delivery {report["delivery"]}, {_t(report["when"])}, '
        f"by {_t(report['by'])} · Lean Curve</p>",
        _facts(report),
        "<h2>Files</h2>", _files(files), _inside(report), _refused(report["refused"]),
        "<h2>Poses</h2>", _poses(report["poses"], report["rate"]),
        "<h2>Over time</h2>", '<div class="two">',
        _plot("Ends moved from the take", "mm", plots["seconds"], [("", plots["change_mm"])]),
        _plot("Keys a second", "", plots["seconds"], [("", plots["keys_a_second"])]),
        _plot(
            "Standing feet from where they were set down", "mm", plots["seconds"],
            [("before", plots["slide_before_mm"]), ("after", plots["slide_after_mm"])],
        ),
        _largest(report), "</div>",
        '<div class="second"></div>',
        "<h2>What was done</h2>", _lines(report["lines"]),
        '<div class="two"><div><h2>Findings</h2>', _findings(report["findings"]),
        _accepted(report["accepted"]), "</div><div><h2>Fixes</h2>", _mended(report), "</div></div>",
        _layers(report["layers"]),
    ]  # fmt: skip
    return (
        '<!doctype html><html lang="en"><head><meta charset="utf-8">'
        f"<title>{_t(report['clip'])}, delivery {report['delivery']}</title>"
        f"<style>{STYLE}</style></head><body><main>{''.join(parts)}</main></body></html>"
    )


def _t(value: object) -> str:
    return escape(str(value))


def _number(value: float, places: int = 2) -> str:
    if 0.0 < value < 10.0**-places:
        return f"< {10.0**-places:.{places}f}"
    return f"{value:,.{places}f}"


def _table(
    heads: Sequence[tuple[str, str]], rows: Sequence[Sequence[object]], most: int = MOST_ROWS
) -> str:
    """A table; a head's class is its column's. More rows than are shown are counted."""
    head = "".join(f'<th class="{c}">{_t(name)}</th>' for name, c in heads)
    shown = rows[:most]
    body = "".join(
        "<tr>"
        + "".join(f'<td class="{c}">{_t(v)}</td>' for v, (_, c) in zip(row, heads, strict=True))
        + "</tr>"
        for row in shown
    )
    more = len(rows) - len(shown)
    told = f'<p class="quiet">and {more} more</p>' if more > 0 else ""
    return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{told}"


def _facts(report: Mapping[str, Any]) -> str:
    rate = f"{report['rate']:g}"
    seconds = max(report["frames"] - 1, 0) / report["rate"]
    facts = [
        ("Take", report["take"]["name"]), ("Its file", report["take"]["file"]),
        ("Skeleton", report["skeleton"]), ("SHA-256 of the file", report["take"]["sha256"]),
        ("Revision", report["revision"]),
        ("Length", f"{seconds:.2f} s, {report['frames']:,} frames at {rate} / s"),
        ("Keys", f"{report['keys']['before']:,} before, {report['keys']['after']:,} after"),
        ("Way over the floor", f"{report['travelled_m']:.2f} m"),
    ]  # fmt: skip
    if "goes_on" in report:
        ends = report["goes_on"]
        facts.append(("First to last frame", f"{ends['mm']:,.1f} mm, turned {ends['deg']:.1f}°"))
    return f"<dl>{''.join(f'<dt>{_t(k)}</dt><dd>{_t(v)}</dd>' for k, v in facts)}</dl>"


def _files(files: Sequence[Mapping[str, Any]]) -> str:
    heads = [("File", "wide"), ("Size", "n"), ("Rotations differ by", "n"),
             ("Places differ by", "n"), ("SHA-256", "wide")]  # fmt: skip
    rows = [
        (
            f["name"], f"{f['size'] / 1e6:,.2f} MB",
            f"{_number(f['max_deg'], 4)}° {f['deg_joint']}",
            f"{_number(f['max_mm'], 4)} mm {f['mm_joint']}", f["sha256"],
        )
        for f in files
    ]  # fmt: skip
    return _table(heads, rows) if rows else "<p>None of its own.</p>"


def _inside(report: Mapping[str, Any]) -> str:
    """Files of several clips: which others are in one's own, and in whose one is."""
    told = [f"{f['name']} holds {', '.join(f['clips'])}" for f in report["files"] if f.get("clips")]
    told += [f"also in {f['name']}, a file of {f['clip']}" for f in report.get("inside", [])]
    return f'<p class="quiet">{_t("; ".join(told))}</p>' if told else ""


def _refused(refused: Sequence[Mapping[str, str]]) -> str:
    return "".join(
        f'<p class="bad">Not delivered: {_t(r["name"])}: {_t(r["why"])}</p>' for r in refused
    )


def _lines(lines: Sequence[Mapping[str, Any]]) -> str:
    heads = [("Line", "wide"), ("Kind", ""), ("Largest turn", "n"), ("Farthest end", "n"),
             ("Keys after", "n")]  # fmt: skip
    rows = []
    for k, line in enumerate(lines):
        deg = f"{_number(line['deg'])}° {line['joint']}" if line["deg"] else "–"
        mm = f"{_number(line['mm'])} mm {line['end']}" if line["mm"] else "–"
        rows.append(
            (
                f"{k + 1}. {line['told']}",
                line["kind"],
                deg,
                mm,
                f"{line['keys']:,}" if line["keys"] else "–",
            )
        )
    return _table(heads, rows, most=len(rows))


def _findings(found: Mapping[str, Mapping[str, int]]) -> str:
    kinds = sorted({*found["before"], *found["after"]})
    if not kinds:
        return "<p>None, before and after.</p>"
    rows = [(k, found["before"].get(k, 0), found["after"].get(k, 0)) for k in kinds]
    return _table([("Kind", ""), ("before", "n"), ("after", "n")], rows)


def _accepted(accepted: Sequence[Mapping[str, Any]]) -> str:
    if not accepted:
        return ""
    told = ", ".join(f"{a['kind']} of {a['joint']} at {a['first']}" for a in accepted[:MOST_ROWS])
    return f'<p class="quiet">Meant, and accepted by hand: {_t(told)}</p>'


def _mended(report: Mapping[str, Any]) -> str:
    if not report["mended"]:
        return "<p>None.</p>"
    rows = [
        (
            ", ".join(m["joints"][:2]) + (" …" if len(m["joints"]) > 2 else ""),
            f"{m['first']}–{m['last']}", f"{_number(m['deg'])}°", f"{_number(m['mm'])} mm",
        )
        for m in sorted(report["mended"], key=lambda m: -m["deg"])
    ]  # fmt: skip
    return _table([("Joints", "wide"), ("Frames", "n"), ("by", "n"), ("at the ends", "n")], rows)


def _largest(report: Mapping[str, Any]) -> str:
    found = report["largest"]
    rows = [
        (name, f"{_number(v['size'])} {unit}", v["name"], f"{v['frame'] / report['rate']:.2f} s")
        for name, v, unit in (("turn", found["deg"], "°"), ("end", found["mm"], "mm"))
        if v["size"] > SAME
    ]
    told = _table([("", ""), ("by", "n"), ("", ""), ("at", "n")], rows) if rows else "<p>None.</p>"
    return f"<div><h2>Largest change by calming and thinning</h2>{told}</div>"


def _layers(layers: Sequence[Mapping[str, Any]]) -> str:
    if not layers:
        return ""
    rows = [
        (
            layer["name"] + (" (muted)" if layer["muted"] else ""), layer["kind"],
            f"{_number(layer['deg'])}° {layer['joint']}",
            f"{_number(layer['mm'])} mm {layer['end']}",
        )
        for layer in layers
    ]  # fmt: skip
    heads = [("Layer", "wide"), ("Kind", ""), ("turns", "n"), ("moves", "n")]
    return f"<h2>Layers, bottom to top</h2>{_table(heads, rows)}"


INK, PALE, LEFT = "#1c2b39", "#fff", "#cfd8df"
WIDE, TALL = 330.0, 110.0


def _plot(
    title: str, unit: str, seconds: Sequence[float], curves: Sequence[tuple[str, Any]]
) -> str:
    """Curves over seconds: the first is drawn whole, the second dashed."""
    known = [(name, values) for name, values in curves if values]
    if not known:
        return f"<figure><h2>{_t(title)}</h2><p>Not known: another skeleton or length.</p></figure>"
    most = max((max(values) for _, values in known), default=0.0)
    top = most if most > SAME else 1.0
    left, low, right, high = 46.0, TALL - 16.0, WIDE - 6.0, 8.0
    end = max(seconds[-1], 1e-9)
    drawn = []
    for k, (_, values) in enumerate(known):
        points = " ".join(
            f"{left + (right - left) * s / end:.1f},{low - (low - high) * v / top:.1f}"
            for s, v in zip(_spread(seconds, len(values)), values, strict=True)
        )
        # With two of them what was before is pale and dashed, what came of it whole.
        before = len(known) == 2 and k == 0
        look = 'stroke-dasharray="3 2.5" stroke-width="0.9"' if before else 'stroke-width="1.3"'
        drawn.append(f'<polyline points="{points}" fill="none" stroke="{INK}" {look}/>')
    ticks = "".join(
        f'<text x="{left - 4:g}" y="{y + 3:g}" text-anchor="end">{_t(text)}</text>'
        for y, text in ((low, "0"), (high, f"{_short(top)}{' ' + unit if unit else ''}"))
    )
    ticks += f'<text x="{right:g}" y="{TALL - 4:g}" text-anchor="end">{end:.1f} s</text>'
    key = " · ".join(
        f"{name} {'- - -' if k == 0 else '——'}" for k, (name, _) in enumerate(known) if name
    ) if len(known) > 1 else ""  # fmt: skip
    head = f"<h2>{_t(title)}{f' ({_t(key)})' if key else ''}</h2>"
    return (
        f'<figure>{head}<svg viewBox="0 0 {WIDE:g} {TALL:g}" role="img" '
        f'aria-label="{_t(title)}, at most {_short(most)} {_t(unit)}" font-size="8">'
        f'<path d="M{left:g} {high:g}V{low:g}H{right:g}" fill="none" stroke="#9aa7b2"/>'
        f"{''.join(drawn)}<g fill='#55636f'>{ticks}</g></svg></figure>"
    )


def _spread(seconds: Sequence[float], count: int) -> list[float]:
    if count == len(seconds):
        return list(seconds)
    return [float(s) for s in np.linspace(0.0, seconds[-1], count)]


def _short(value: float) -> str:
    return f"{value:,.0f}" if value >= 100 else f"{value:.3g}"


def _poses(poses: Mapping[str, Any], rate: float) -> str:
    figures = poses["figures"]
    if not figures:
        return "<p>None.</p>"
    wide, tall, scale = 110.0, 128.0, 92.0
    out = []
    for k, (shapes, frame) in enumerate(zip(figures, poses["frames"], strict=True)):
        middle = sum(s[0] for s in shapes) / max(len(shapes), 1)
        x, y = (k + 0.5) * wide - scale * middle, tall - 20.0
        out += [_limb(s, x, y, scale) for s in shapes]
        out.append(
            f'<text x="{(k + 0.5) * wide:g}" y="{tall - 5:g}" text-anchor="middle" '
            f'fill="#55636f">{frame} · {frame / rate:.2f} s</text>'
        )
    return (
        f'<figure><svg viewBox="0 0 {wide * len(figures):g} {tall:g}" font-size="9" role="img" '
        f'aria-label="{len(figures)} poses">{"".join(out)}</svg></figure>'
    )


def _limb(shape: Sequence[float], x: float, y: float, scale: float) -> str:
    """Two circles and what lies between them; the figure's own left side is shaded."""
    x1, y1, r1, x2, y2, r2, left = shape
    a, b = np.array([x + scale * x1, y - scale * y1]), np.array([x + scale * x2, y - scale * y2])
    along = b - a
    length = float(np.hypot(*along))
    fill = LEFT if left else PALE
    look = f'fill="{fill}" stroke="{INK}" stroke-width="0.8"'
    one, other = scale * r1, scale * r2
    if length < abs(one - other) + 1e-6:
        at, wide = (a, one) if one >= other else (b, other)
        return f'<circle cx="{at[0]:.1f}" cy="{at[1]:.1f}" r="{wide:.1f}" {look}/>'
    along /= length
    lean = (one - other) / length
    side = np.sqrt(max(1.0 - lean * lean, 0.0)) * np.array([-along[1], along[0]])
    p, q = a + one * (lean * along + side), b + other * (lean * along + side)
    r, s = b + other * (lean * along - side), a + one * (lean * along - side)
    return (
        f'<path d="M{p[0]:.1f} {p[1]:.1f}L{q[0]:.1f} {q[1]:.1f}'
        f"A{other:.1f} {other:.1f} 0 {int(lean < 0)} 0 {r[0]:.1f} {r[1]:.1f}"
        f"L{s[0]:.1f} {s[1]:.1f}"
        f'A{one:.1f} {one:.1f} 0 {int(lean > 0)} 0 {p[0]:.1f} {p[1]:.1f}Z" {look}/>'
    )
