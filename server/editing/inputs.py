"""What a line may work with: documents and skeletons of its own workspace.

Whatever is named by its digest is looked up among what the workspace refers to. What another one
has, and what nobody has, is answered alike.
"""

from collections.abc import Mapping

from django.db.models import Q
from documents.models import State
from leancurve.errors import BadInput
from leancurve.operations import operation_named
from library.models import Skeleton, Take, Workspace

from editing.models import Chosen, Clip, Memo, Revision, StoredMotion
from editing.recipes import Named, trail


def require_ours(
    workspace: Workspace, operation: str, inputs: Mapping[str, Named] | None, base: Revision | None
) -> None:
    """Raise :class:`BadInput` where a line names what its workspace does not refer to.

    ``base`` is the revision that it is written on: what stood between its lines counts too.
    """
    declared = operation_named(operation).inputs
    for name, given in (inputs or {}).items():
        kind = declared[name].kind if name in declared else None
        for digest in [given] if isinstance(given, str) else given:
            if kind == "skeleton":
                known = Skeleton.objects.filter(workspace=workspace, digest=digest).exists()
            else:
                known = is_ours(workspace, digest) or (base is not None and _between(base, digest))
            if not known:
                raise BadInput(f"{operation}: {name} is not here any more")


def is_ours(workspace: Workspace, state: str) -> bool:
    """Whether a workspace's takes, clips or stored motions refer to a state."""
    clips = Clip.objects.filter(workspace=workspace)
    revisions = Revision.objects.filter(clip__in=clips)
    return any(
        found.exists()
        for found in (
            Take.objects.filter(workspace=workspace, state=state),
            StoredMotion.objects.filter(workspace=workspace, state=state),
            revisions.filter(Q(state=state) | Q(before=state) | Q(take_state=state)),
            Chosen.objects.filter(clip__in=clips, state=state),
        )
    )


def _between(base: Revision, state: str) -> bool:
    """Whether a state is what one of the lines of a revision's recipe made."""
    take: State = (base.take or base.clip.take).state
    made = Memo.objects.filter(key__among=trail(take, base.recipe))
    return made.filter(Q(state=state) | Q(take=state)).exists()
