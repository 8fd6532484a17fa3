"""Pages that are not the API: health, readiness, and the interface's one page."""

import sys
import threading
import time
from functools import cache

from computing.away import pool
from django.conf import settings
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.csrf import ensure_csrf_cookie
from library.jobs import HEARD_S, workers_alive
from library.models import Pulse
from plumbing.logs import context
from plumbing.troubles import is_full, passing


def went_wrong(request: HttpRequest) -> JsonResponse:
    """What is answered where nothing else was foreseen; what passes by itself is 503."""
    told = passing(sys.exc_info()[1])
    if told is not None:
        return JsonResponse({"detail": told}, status=503)
    name = (context.get() or {}).get("request", "")
    detail = f"Something went wrong on our side; the log names it as request {name}."
    return JsonResponse({"detail": detail}, status=500)


def healthz(request: HttpRequest) -> JsonResponse:
    """The process answers."""
    return JsonResponse({"ok": True})


NOT_READY_FOR_S = 0.5
"""How long it counts that the server was found not ready: it is asked again and again then."""

_looking = threading.Lock()
_found: tuple[float, dict[str, str]] | None = None


def readyz(request: HttpRequest) -> JsonResponse:
    """Database reachable and written to, migrations applied, a worker alive, computing processes
    begun: 200, else 503 and what is missing. What was found a moment ago counts: asking costs
    nothing."""
    global _found
    with _looking:
        now = time.monotonic()
        if _found is None or now > _found[0]:
            checks = _looked()
            good = all(v == "ok" for v in checks.values())
            holds = settings.READY_FOR_S
            _found = (now + (holds if good else min(holds, NOT_READY_FOR_S)), checks)
        checks = _found[1]
    ready = all(v == "ok" for v in checks.values())
    return JsonResponse({"ready": ready, **checks}, status=200 if ready else 503)


def _looked() -> dict[str, str]:
    checks: dict[str, str] = {}
    try:
        executor = MigrationExecutor(connection)
        pending = executor.migration_plan(executor.loader.graph.leaf_nodes())
        checks["database"] = "ok"
        checks["migrations"] = "ok" if not pending else f"{len(pending)} to apply"
        checks["worker"] = "ok" if workers_alive() else f"no heartbeat in {HEARD_S} s"
        Pulse.beat()
        checks["disk"] = "ok"
    except Exception as trouble:
        checks["disk" if is_full(trouble) else "database"] = (
            "full" if is_full(trouble) else type(trouble).__name__
        )
    if settings.COMPUTERS:
        checks["computing"] = "ok" if pool().begins else "its processes do not begin"
    return checks


@cache
def _index() -> bytes | None:
    file = settings.WEB_DIST / "index.html"
    return file.read_bytes() if file.exists() else None


@ensure_csrf_cookie
def page(request: HttpRequest) -> HttpResponse:
    """The interface; its own router knows the address."""
    html = _index()
    if html is None:
        return HttpResponse("The interface is not built: run ./lean setup.", status=503)
    response = HttpResponse(html)
    response["Cache-Control"] = "no-cache"
    return response
