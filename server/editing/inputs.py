"""What a line may work with: documents and skeletons of its own workspace.

Whatever is named by its digest is looked up among what the workspace refers to. What another one
has, and what nobody has, is answered alike.
"""

from collections.abc import Iterable, Mapping
from typing import Any

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


def sources_of(clip: Clip, named: Iterable[tuple[str, str]]) -> list[dict[str, Any]]:
    """The other clips of a workspace that documents were taken from, each by its state and the name
    it goes by: of each ``state`` the ``clip``, its ``name``, the ``revision`` that stands so, and
    the ``newest`` state, another one where it has changed since.

    Of clips that all stand so, or once did, the one that is called so, and else one that still
    does: one file may have been brought in twice.
    """
    names: dict[str, set[str]] = {}
    for state, name in named:
        names.setdefault(state, set()).add(name)
    found = (
        Revision.objects.filter(
            clip__workspace=clip.workspace, clip__binned=None, state__among=set(names)
        )
        .exclude(clip=clip)
        .select_related("clip__head")
        .order_by("-pk")
    )
    best: dict[str, tuple[tuple[bool, bool], Revision]] = {}
    for revision in found:
        state, head = revision.state_id, revision.clip.head
        if head is None:
            continue
        fits = revision.clip.name in names[state], head.state_id == state
        if state not in best or fits > best[state][0]:
            best[state] = fits, revision
    return [
        {
            "state": state, "clip": revision.clip_id, "name": revision.clip.name,
            "revision": revision.pk, "newest": revision.clip.head.state_id,
        }
        for state, (_, revision) in best.items()
        if revision.clip.head is not None
    ]  # fmt: skip


def _between(base: Revision, state: str) -> bool:
    """Whether a state is what one of the lines of a revision's recipe made."""
    take: State = (base.take or base.clip.take).state
    made = Memo.objects.filter(key__among=trail(take, base.recipe))
    return made.filter(Q(state=state) | Q(take=state)).exists()
