"""The demo's account, whose password everybody can read: it signs in only where the demo runs."""

from django.conf import settings
from django.contrib.auth.models import Group, User

NAME, PASSWORD = "deckhand", "harbour-light"
GROUP = "the demo's"


def mark(user: User) -> None:
    """Note that somebody has the printed password."""
    group, _ = Group.objects.get_or_create(name=GROUP)
    user.groups.add(group)


def unmark(user: User) -> None:
    """Note that somebody has a password of their own."""
    user.groups.remove(*Group.objects.filter(name=GROUP))


def may_sign_in(user: User) -> bool:
    """Whether somebody is not the demo's, or the demo runs here."""
    if settings.DEMO or user.username != NAME:
        return True
    return not user.groups.filter(name=GROUP).exists()
