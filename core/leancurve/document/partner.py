"""Partners: figures of other clips in this one's scene."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, order=True)
class Partner:
    """The figure of another clip, as that stands in a revision which ``digest`` names.

    Its first frame is the clip's frame ``later``; before and after its own frames it stands still.
    It is turned by ``turned`` degrees about the up axis and then moved by ``moved (3,)``, in
    millimetres along the clip's axes; the clip's placement takes it along.
    """

    name: str
    digest: str
    later: int = 0
    moved: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turned: float = 0.0
    muted: bool = False
