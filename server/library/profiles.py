"""Profiles: what joints are, kept for skeletons of one family."""

from collections.abc import Sequence

from library.models import Profile, Workspace

ALIKE = 0.8
"""Share of joint names that two skeletons of one family have in common (of both together)."""


def profile_for(workspace: Workspace, names: Sequence[str]) -> Profile | None:
    """The workspace's profile whose skeleton is most like this one, if any is like it."""
    wanted = set(names)

    def likeness(profile: Profile) -> float:
        theirs = set(profile.names)
        return len(wanted & theirs) / max(len(wanted | theirs), 1)

    best = max(workspace.profiles.order_by("-changed"), key=likeness, default=None)
    return best if best is not None and likeness(best) >= ALIKE else None
