"""Whether a workspace has room for more: asked by whatever keeps something in it.

How much it holds is known above, where deliveries and clips are: it says so here.
"""

from collections.abc import Callable

from library.models import Workspace

_refuse: Callable[[Workspace], None] = lambda _: None  # noqa: E731


def refuse_full_with(refuse: Callable[[Workspace], None]) -> None:
    """Who knows how much workspaces hold says how one is refused."""
    global _refuse
    _refuse = refuse


def require_room(workspace: Workspace) -> None:
    """Raise :class:`leancurve.errors.BadInput` where a workspace may hold no more."""
    _refuse(workspace)
