"""What a part of a clip declares of itself."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Generic, TypeAlias, TypeVar

from leancurve.document.clip import Clip
from leancurve.document.moves import Move

Item = TypeVar("Item")
Values: TypeAlias = dict[str, Any]
At: TypeAlias = Callable[[float], float]


@dataclass(frozen=True)
class Retimed:
    """A change of time: a first frame comes to lie at ``begins(frame)``, a last one at
    ``ends(frame)``, which differ at a gap, in a clip of so many ``frames`` then. Where it runs
    ``backwards``, what was first is last."""

    begins: At
    ends: At
    frames: int
    backwards: bool = False

    def span(self, first: int, last: int) -> tuple[int, int]:
        """Where a span comes to lie, before it is cut to the clip's frames."""
        if self.backwards:
            first, last = last, first
        return round(self.begins(first)), round(self.ends(last))


def plain(item: Any) -> Values:
    """An item's fields as plain JSON values."""
    return asdict(item)


@dataclass(frozen=True)
class Part(Generic[Item]):
    """A part of a clip, by the name of its field: some items, or a ``single`` one or none.

    ``told`` is what it is called in messages. ``values`` and ``item`` are its stored form, as
    plain JSON values; where that speaks of joints by number, ``by_names`` and ``of_names`` are the
    same by their names, for clip JSON. ``public`` is what the browser gets with the clip; None
    where it asks for it by itself. ``key`` says what an item is of: two changes of the same
    conflict; where items are ``ordered``, their order is one thing more. ``unknown`` says that it
    is None until it is looked for. ``most`` is how many there may be, and ``sound`` refuses those
    that no motion has.

    What ``spans`` lies in time, from its ``first`` to its ``last`` frame, both included: it follows
    changes of time and is repeated with what it lies on. ``lengths`` brings what else an item has
    in frames to the new time, ``apart`` settles items that have come to overlap. ``retimed`` is how
    what spans nothing follows a change of time, None of what does not. ``moved`` is how
    it goes along when the whole clip is moved; None of what has no place in the world.
    ``of_figure`` marks what means one skeleton and does not come along to another.
    """

    name: str
    told: str
    item: Callable[[Mapping[str, Any]], Item]
    key: Callable[[Item], Hashable]
    most: int
    values: Callable[[Item], Values] = plain
    by_names: Callable[[Item, Sequence[str]], Values] | None = None
    of_names: Callable[[Mapping[str, Any], Sequence[str]], Item] | None = None
    public: Callable[[Item], Values] | None = plain
    single: bool = False
    ordered: bool = False
    unknown: bool = False
    of_figure: bool = False
    sound: Callable[[Clip], None] | None = None
    spans: bool = False
    lengths: Callable[[Item, Retimed], Item] | None = None
    apart: Callable[[Iterable[Item]], tuple[Item, ...]] | None = None
    retimed: Callable[[Item, Retimed], Item] | None = None
    moved: Callable[[Clip, tuple[Item, ...], Move], tuple[Item, ...]] | None = None

    def of(self, clip: Clip) -> tuple[Item, ...]:
        """Its items in a clip."""
        found = getattr(clip, self.name)
        if found is None:
            return ()
        return (found,) if self.single else found

    def whole(self, items: Sequence[Item]) -> Any:
        """What a clip has of so many items."""
        return (items[0] if items else None) if self.single else tuple(items)

    @property
    def none(self) -> Any:
        """What a clip has that has none of it."""
        return None if self.single or self.unknown else ()
