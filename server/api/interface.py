"""The API: thin views over the library, editing and delivery apps.

Everything but signing in needs a session, and every object is looked up among those its
workspace's members may see: somebody else's is 404.
"""

import logging
from collections.abc import Callable
from functools import wraps
from typing import Any

from axes.handlers.proxy import AxesProxyHandler
from django.conf import settings
from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.db.utils import DataError
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.csrf import csrf_protect, ensure_csrf_cookie
from documents.store import Gone
from editing.history import Conflict
from leancurve.errors import BadInput, short
from leancurve.formats.files import READ, TABLE
from leancurve.operations import OPERATIONS, Cancelled
from leancurve.operations.describe import described
from library import demo_account
from library.models import Preferences
from ninja import NinjaAPI, Status
from ninja.decorators import decorate_view
from ninja.errors import HttpError
from ninja.security import SessionAuth
from pydantic import ValidationError as PydanticError
from studio.attempts import address_waits
from studio.people import change_own_password

from api.clips import router as clips
from api.deliveries import router as deliveries
from api.guard import StrictParser
from api.inspections import router as inspections
from api.joining import router as joining
from api.motion import router as motion
from api.plants import router as plants
from api.previews import router as previews
from api.recipes import router as recipes
from api.retargeting import router as retargeting
from api.schemas import interface as schemas
from api.schemas import shared
from api.stored import router as stored
from api.studio import router as studio
from api.takes import router as takes


def signed_in_only(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """The API's own description is for those who use it."""

    @wraps(view)
    def guarded(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        if not request.user.is_authenticated:
            return JsonResponse({"detail": "Sign in first."}, status=401)
        return view(request, *args, **kwargs)

    return guarded


log = logging.getLogger("lean.request")
browser_log = logging.getLogger("lean.browser")

api = NinjaAPI(
    title="Lean Curve",
    version="1",
    auth=SessionAuth(csrf=True),
    docs_url=None,
    openapi_url="openapi.json",
    parser=StrictParser(),
    docs_decorator=signed_in_only,
)
api.add_router("", takes)
api.add_router("", clips)
api.add_router("", motion)
api.add_router("", joining)
api.add_router("", inspections)
api.add_router("", previews)
api.add_router("", plants)
api.add_router("", retargeting)
api.add_router("", deliveries)
api.add_router("", recipes)
api.add_router("", stored)
api.add_router("", studio)


@api.exception_handler(BadInput)
def _bad_input(request: HttpRequest, trouble: BadInput) -> HttpResponse:
    return api.create_response(request, {"detail": str(trouble)}, status=422)


@api.exception_handler(Gone)
def _gone(request: HttpRequest, trouble: Gone) -> HttpResponse:
    """A revision whose curves were let go and that cannot be made again as it was."""
    log.error("a state cannot be made again", extra={"state": trouble.name, "why": trouble.why})
    detail = f"This revision cannot be shown: its curves were let go, and {trouble.why}."
    return api.create_response(request, {"detail": detail}, status=422)


@api.exception_handler(HttpError)
def _refused(request: HttpRequest, trouble: HttpError) -> HttpResponse:
    """What the parser found wrong with a body, in its own words."""
    found = getattr(request, "trouble", None)
    status = trouble.status_code if found is None else 422
    return api.create_response(request, {"detail": str(found or trouble)}, status=status)


@api.exception_handler(PydanticError)
def _no_such_value(request: HttpRequest, trouble: PydanticError) -> HttpResponse:
    """A part of a body that is no scope, no parameter: the first thing that is wrong with it."""
    first = trouble.errors()[0]
    where = ".".join(str(part) for part in first["loc"])
    return api.create_response(request, {"detail": f"{short(where)}: {first['msg']}"}, status=422)


@api.exception_handler(DataError)
def _out_of_range(request: HttpRequest, trouble: DataError) -> HttpResponse:
    """A number that the database has no room for, in an address or a body."""
    return api.create_response(request, {"detail": "A number is out of range."}, status=422)


@api.exception_handler(Conflict)
def _conflict(request: HttpRequest, trouble: Conflict) -> HttpResponse:
    body = {
        "detail": str(trouble),
        "head": trouble.head.pk,
        "theirs": trouble.theirs,
        "yours": trouble.yours,
        "changes": trouble.changes,
    }
    return api.create_response(request, body, status=409)


@api.exception_handler(Cancelled)
def _superseded(request: HttpRequest, trouble: Cancelled) -> HttpResponse:
    return api.create_response(request, {"detail": "A newer preview took its place."}, status=410)


def _session(request: HttpRequest) -> dict[str, Any]:
    user = request.user
    if not user.is_authenticated:
        return {"user": None, "workspaces": []}
    places = user.memberships.select_related("workspace").order_by("workspace_id")
    return {
        "user": user.get_username(),
        "workspaces": [
            {"id": m.workspace_id, "name": m.workspace.name, "role": m.role} for m in places
        ],
        "runs_studio": user.is_staff,
        "reads": [*READ, TABLE],
    }


@api.get("session", auth=None, response=schemas.SessionOut)
@decorate_view(ensure_csrf_cookie)
def session(request: HttpRequest) -> Any:
    """Who is signed in, if anybody."""
    return _session(request)


@api.post(
    "session",
    auth=None,
    response={200: schemas.SessionOut, 401: shared.Trouble, 429: shared.Trouble},
)
@decorate_view(csrf_protect)
def sign_in(request: HttpRequest, credentials: schemas.Credentials) -> Any:
    """Begin a session. Whoever fails too often from one address has to wait a while."""
    by_name = AxesProxyHandler.is_allowed(request, {"username": credentials.username})
    if not by_name or address_waits(request):
        minutes = int(settings.AXES_COOLOFF_TIME.total_seconds() // 60)
        what = "from this address" if by_name else "with this name"
        detail = f"Too many attempts {what}: wait {minutes} minutes, then try again."
        return Status(429, {"detail": detail})
    user = authenticate(request, username=credentials.username, password=credentials.password)
    if user is None and credentials.username == demo_account.NAME and not settings.DEMO:
        detail = "No user has that name and password. The demo's own signs in under ./lean demo."
        return Status(401, {"detail": detail})
    if user is None:
        return Status(401, {"detail": "No user has that name and password."})
    login(request, user)
    return _session(request)


@api.post("password", response={204: None})
def change_password(request: HttpRequest, wanted: schemas.OwnPasswordIn) -> Any:
    """One's own new password; whoever is signed in with the old one elsewhere is signed out."""
    user = change_own_password(request, wanted.old, wanted.new)
    update_session_auth_hash(request, user)
    return Status(204, None)


@api.delete("session", response=schemas.SessionOut)
def sign_out(request: HttpRequest) -> Any:
    logout(request)
    return {"user": None, "workspaces": []}


@api.get("preferences", response=schemas.PreferencesIO)
def preferences(request: HttpRequest) -> Any:
    found = Preferences.objects.filter(user=request.user).first()
    return found.values if found else {}


@api.put("preferences", response=schemas.PreferencesIO)
def keep_preferences(request: HttpRequest, wanted: schemas.PreferencesIO) -> Any:
    kept, _ = Preferences.objects.update_or_create(
        user=request.user, defaults={"values": wanted.model_dump()}
    )
    return kept.values


@api.get("operations", response=list[schemas.OperationOut])
def operations(request: HttpRequest) -> Any:
    """The operations there are, with their parameters, units, defaults and bounds."""
    return [described(kind) for kind in OPERATIONS.values()]


@api.post("browser-errors", response={204: None})
def browser_error(request: HttpRequest, error: schemas.BrowserError) -> Any:
    """An error in somebody's browser, into the server's log."""
    browser_log.error(
        error.message, extra={"stack": error.stack, "url": error.url, "user": str(request.user)}
    )
    return Status(204, None)
