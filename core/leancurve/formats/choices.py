"""What a person chooses about how a file is read, where its numbers leave it open."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from fractions import Fraction

from leancurve.document.limits import require_rate
from leancurve.errors import BadInput, short
from leancurve.formats.orders import SINES

WITHIN_DEG = (1e-4, 10.0)
"""The bounds that fitted rotations may be given."""


@dataclass(frozen=True)
class Choices:
    """How to read a file otherwise than its numbers suggest; what is absent follows them.

    ``rate`` is in frames a second. ``order`` is that of all joints' angles, intrinsic as it is
    listed, and ``orders`` those of single joints by name. Rotations that go from key to key stay
    keyed where ``within_deg`` is given: angles that stay within so many degrees of them between
    frames too.
    """

    rate: Fraction | None = None
    order: str | None = None
    orders: Mapping[str, str] = field(default_factory=dict)
    within_deg: float | None = None

    def checked(self) -> Choices:
        """Itself; :class:`BadInput` says what cannot be chosen."""
        if self.rate is not None:
            require_rate(self.rate)
        for order in (self.order, *self.orders.values()):
            if order is not None and order not in SINES:
                raise BadInput(f"order: {short(repr(order))} is not one of {', '.join(SINES)}")
        if self.within_deg is not None and not WITHIN_DEG[0] <= self.within_deg <= WITHIN_DEG[1]:
            raise BadInput(f"fitted: expected {WITHIN_DEG[0]:g} to {WITHIN_DEG[1]:g} degrees")
        return self

    @property
    def turns(self) -> bool:
        """Whether anything is chosen about rotations."""
        return bool(self.order or self.orders or self.within_deg)

    def require_joints(self, names: Collection[str]) -> None:
        """Raise :class:`BadInput` for an order of a joint that is not among these."""
        unknown = next((n for n in self.orders if n not in names), None)
        if unknown is not None:
            raise BadInput(f"order: no joint is named {short(repr(unknown))}")


AS_TOLD = Choices()
"""Nothing chosen: everything as the numbers suggest."""
