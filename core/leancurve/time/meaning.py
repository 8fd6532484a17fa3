"""What a parameter means in time, and what becomes of it on another time.

A field says it in its JSON schema, next to its unit: ``{"unit": "frame", "time": "begins"}``. One
walk over a model's fields derives from that what a swap of the take or a change of rate does.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Literal, TypeAlias, get_args

from pydantic import BaseModel

Meaning: TypeAlias = Literal[
    "frame", "hint", "begins", "ends", "length", "rate", "span", "points", "map", "keys"
]
"""``frame``: a point, without which what it belongs to has no place. ``hint``: one that can be
done without. ``begins`` and ``ends``: a span's frames; it has no place where it begins beyond the
end, and is cut where it ends there. ``length``: so many frames long, earlier below 0. ``rate``: an
amount a frame. ``span``: first and last frame. ``points``: frames, or frames by name. ``map``:
pairs of frames, where they were and where they come. ``keys``: names of keys, a frame last."""

MEANINGS: frozenset[str] = frozenset(get_args(Meaning))


def same(frame: float) -> float:
    return frame


@dataclass(frozen=True, eq=False)
class ClipTime:
    """A clip's time: frames a second, how many frames, and where a frame of the take has come."""

    rate: Fraction
    frames: int
    moved: Callable[[float], float] = same

    def then(
        self, frames: int, moved: Callable[[float], float], rate: Fraction | None = None
    ) -> ClipTime:
        """This time after one more change."""
        before = self.moved
        return ClipTime(rate or self.rate, frames, lambda f: moved(before(f)))


class Beyond(Exception):
    """Something lies wholly beyond the clip's end."""


def on_frames(time: float, scale: float) -> float:
    """A number of frames at another rate; a whole one stays whole."""
    if scale == 1.0:
        return time
    return round(time * scale) if isinstance(time, int) else time * scale


def moved_values(
    model: type[BaseModel], values: Mapping[str, Any], scale: float, frames: int
) -> tuple[dict[str, Any], list[Any]]:
    """A model's plain values as they mean the same seconds on another time, and what is lost.

    ``scale`` is the new rate over the old one, ``frames`` how many there are now. Raises
    :class:`Beyond` where the whole of it lies beyond the end.
    """
    lost: list[Any] = []
    out = {name: _moved(model, name, value, scale, frames, lost) for name, value in values.items()}
    return {n: v for n, v in out.items() if v is not None or values[n] is None}, lost


def _moved(
    model: type[BaseModel], name: str, value: Any, scale: float, frames: int, lost: list[Any]
) -> Any:
    field = model.model_fields.get(name)
    if field is None or value is None:
        return value
    extra = field.json_schema_extra
    meaning = extra.get("time") if isinstance(extra, dict) else None
    if meaning is None:
        inner = model_in(field.annotation)
        return value if inner is None else _nested(inner, value, scale, frames, lost)
    return _CHANGES[str(meaning)](name, value, scale, frames, lost)


def _nested(model: type[BaseModel], value: Any, scale: float, frames: int, lost: list[Any]) -> Any:
    if isinstance(value, Mapping):
        out, gone = moved_values(model, value, scale, frames)
        lost += gone
        return out
    kept = []
    for item in value:
        try:
            moved, gone = moved_values(model, item, scale, frames)
        except Beyond:
            lost.append(item)
            continue
        lost += gone
        kept.append(moved)
    return kept


def model_in(annotation: Any) -> type[BaseModel] | None:
    """The model that a field holds one or several of, if it does."""
    if isinstance(annotation, type):
        return annotation if issubclass(annotation, BaseModel) else None
    found = (model_in(a) for a in get_args(annotation))
    return next((m for m in found if m is not None), None)


def _point(frame: float, scale: float, frames: int) -> float:
    moved = on_frames(frame, scale)
    if round(moved) >= frames:
        raise Beyond
    return moved


def _frame(_name: str, value: float, scale: float, frames: int, _lost: list[Any]) -> float:
    return _point(value, scale, frames)


def _hint(name: str, value: float, scale: float, frames: int, lost: list[Any]) -> float | None:
    try:
        return _point(value, scale, frames)
    except Beyond:
        lost.append({name: value})
        return None


def _ends(_name: str, value: float, scale: float, frames: int, _lost: list[Any]) -> float:
    return min(on_frames(value, scale), frames - 1)


def _length(_name: str, value: float, scale: float, _frames: int, _lost: list[Any]) -> float:
    moved = on_frames(value, scale)
    if isinstance(value, int) and value and not moved:
        return 1 if value > 0 else -1
    return moved


def _rate(_name: str, value: float, scale: float, _frames: int, _lost: list[Any]) -> float:
    return value / scale


def _span(_name: str, value: Any, scale: float, frames: int, _lost: list[Any]) -> list[float]:
    first, last = value
    return [_point(first, scale, frames), min(on_frames(last, scale), frames - 1)]


def _points(name: str, value: Any, scale: float, frames: int, lost: list[Any]) -> Any:
    if isinstance(value, Mapping):
        return {k: _points(f"{name}.{k}", v, scale, frames, lost) for k, v in value.items()}
    out = []
    for frame in value:
        try:
            out.append(_point(frame, scale, frames))
        except Beyond:
            lost.append({name: frame})
    return out


def _map(name: str, value: Any, scale: float, frames: int, lost: list[Any]) -> list[list[float]]:
    """Pairs that lie beyond the end, or would meet the one before, have no place."""
    out: list[list[float]] = []
    for source, target in value:
        pair = [on_frames(source, scale), on_frames(target, scale)]
        ahead = not out or (pair[0] > out[-1][0] and pair[1] > out[-1][1])
        if ahead and pair[0] < frames:
            out.append(pair)
        else:
            lost.append({name: [source, target]})
    if len(out) < 2:
        raise Beyond
    return out


def _keys(name: str, value: Any, scale: float, frames: int, lost: list[Any]) -> list[list[Any]]:
    out: list[list[Any]] = []
    for key in value:
        *named, frame = key
        if frame is None:
            out.append(list(key))
            continue
        try:
            out.append([*named, _point(frame, scale, frames)])
        except Beyond:
            lost.append({name: list(key)})
    if value and not out:
        raise Beyond
    return out


_CHANGES: dict[str, Callable[[str, Any, float, int, list[Any]], Any]] = {
    "frame": _frame,
    "hint": _hint,
    "begins": _frame,
    "ends": _ends,
    "length": _length,
    "rate": _rate,
    "span": _span,
    "points": _points,
    "map": _map,
    "keys": _keys,
}
