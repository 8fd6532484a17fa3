"""Whether a workspace has room for more: asked by whatever keeps something in it.

How much it holds is known above, where deliveries and clips are: it says so here.
"""

from collections.abc import Callable

from django.conf import settings
from leancurve.errors import BadInput

from library.models import Workspace

_refuse: Callable[[Workspace], None] = lambda _: None  # noqa: E731


def refuse_full_with(refuse: Callable[[Workspace], None]) -> None:
    """Who knows how much workspaces hold says how one is refused."""
    global _refuse
    _refuse = refuse


def most_takes_of(workspace: Workspace) -> int:
    """How many takes a workspace may hold."""
    own = workspace.most_takes
    return int(settings.WORKSPACE_TAKES) if own is None else own


def require_takes(workspace: Workspace) -> None:
    """Raise :class:`BadInput` where a workspace holds more takes than it may."""
    most, found = most_takes_of(workspace), workspace.takes.count()
    if found > most:
        raise BadInput(f"the file has more takes than the workspace has room for: {most} in all")


def require_room(workspace: Workspace) -> None:
    """Raise :class:`leancurve.errors.BadInput` where a workspace may hold no more."""
    _refuse(workspace)
