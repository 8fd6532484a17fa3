"""People: who can sign in, what they may do where, and that somebody is always left who may."""

from typing import Any

from django.contrib.auth import authenticate
from django.contrib.auth.backends import ModelBackend
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpRequest
from leancurve.errors import BadInput
from library import demo_account
from library.models import Membership, Workspace

Role = Membership.Role


class Members(ModelBackend):
    """Who can sign in: whoever is not shut out, and the demo's account only where the demo runs."""

    def user_can_authenticate(self, user: Any) -> bool:
        return super().user_can_authenticate(user) and demo_account.may_sign_in(user)


def add_person(name: str, password: str, runs_studio: bool = False) -> User:
    """Somebody new who can sign in; :class:`BadInput` says what is wrong with name or password."""
    name = name.strip()
    if not name:
        raise BadInput("name: expected one")
    if User.objects.filter(username__iexact=name).exists():
        raise BadInput(f"name: a user called {name!r} already exists")
    _require_decent(password, User(username=name))
    return User.objects.create_user(name, password=password, is_staff=runs_studio)


def give_password(user: User, password: str) -> None:
    """A new password; whoever is signed in with the old one is signed out by it."""
    _require_decent(password, user)
    user.set_password(password)
    user.save(update_fields=["password"])
    demo_account.unmark(user)


def change_own_password(request: HttpRequest, old: str, new: str) -> User:
    """Somebody's own new password, by the old one; elsewhere they are signed out.

    Trying old ones counts as trying to sign in.
    """
    user = authenticate(request, username=request.user.get_username(), password=old)
    if not isinstance(user, User):
        raise BadInput("That is not your current password.")
    give_password(user, new)
    return user


def _require_decent(password: str, user: User) -> None:
    try:
        validate_password(password, user)
    except ValidationError as trouble:
        raise BadInput(" ".join(trouble.messages)) from None


def shut_out(user: User, by: User) -> None:
    """Somebody cannot sign in any more. What they made stays, under their name."""
    if user == by:
        raise BadInput("you cannot remove your own access")
    user.is_active = False
    user.save(update_fields=["is_active"])


def let_in(user: User) -> None:
    """Somebody who was shut out can sign in again."""
    user.is_active = True
    user.save(update_fields=["is_active"])


def set_role(workspace: Workspace, user: User, role: str) -> None:
    """What somebody may do in a workspace from now on."""
    if role not in Role.values:
        raise BadInput(f"role: expected {', '.join(Role.values)}")
    with transaction.atomic():
        Membership.objects.update_or_create(workspace=workspace, user=user, defaults={"role": role})
        _require_an_owner(workspace)


def take_out(workspace: Workspace, user: User) -> None:
    """Somebody has nothing to do with a workspace any more."""
    with transaction.atomic():
        Membership.objects.filter(workspace=workspace, user=user).delete()
        _require_an_owner(workspace)


def _require_an_owner(workspace: Workspace) -> None:
    Workspace.objects.select_for_update().get(pk=workspace.pk)
    if not workspace.memberships.filter(role=Role.OWNER, user__is_active=True).exists():
        raise BadInput("a workspace keeps at least one owner")
