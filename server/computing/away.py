"""The middleware that has heavy requests answered by child processes."""

import multiprocessing
import socket
import threading
from collections.abc import Callable

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from leancurve import warm
from plumbing.logs import context

from computing.lanes import Lane, lane_of, may_be_left, newest_of
from computing.pool import LONGEST_S, Ask, Busy, Lost, Pool, Superseded, TooLong

KEPT = frozenset(
    {
        "REQUEST_METHOD", "SCRIPT_NAME", "PATH_INFO", "QUERY_STRING", "CONTENT_TYPE",
        "SERVER_NAME", "SERVER_PORT", "SERVER_PROTOCOL", "REMOTE_ADDR", "wsgi.url_scheme",
    }
)  # fmt: skip
REQUEST_ID = "lean.request"

_starting = threading.Lock()
_pool: Pool | None = None


def pool() -> Pool:
    """This process's pool, started when it is first asked for."""
    global _pool
    with _starting:
        if _pool is None:
            multiprocessing.get_context("forkserver").set_forkserver_preload(["computing.loaded"])
            _pool = Pool(1, settings.COMPUTERS)
    return _pool


def begin() -> None:
    """Have the children ready before anybody asks; where there are none, what they would load."""
    if settings.COMPUTERS:
        pool()
    else:
        warm.main()


class Away:
    """Light requests go on; heavy ones of people who are signed in go to a child.

    Whether somebody may do what is asked is found there, by the very same views.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        inside = REQUEST_ID in request.META
        lane = None if inside or not settings.COMPUTERS else lane_of(request)
        if lane is None or not pool().ready or not request.user.is_authenticated:
            # Also while the children begin: nobody waits for them.
            return self.get_response(request)
        return self._away(request, lane)

    def _away(self, request: HttpRequest, lane: Lane) -> HttpResponse:
        body = request.body
        environ = {
            name: value
            for name, value in request.META.items()
            if name in KEPT or name.startswith("HTTP_")
        }
        environ["CONTENT_LENGTH"] = str(len(body))
        environ[REQUEST_ID] = (context.get() or {}).get("request", "")
        ask = Ask(request.user.pk, lane, environ, body, newest_of(request))
        try:
            gone = may_be_left(request)
            got = pool().answer(ask, lambda: gone and has_left(request))
        except Superseded:
            return _told(410, "A newer preview took its place.")
        except TooLong:
            return _told(422, f"This takes over {LONGEST_S:.0f} s: choose fewer joints or frames.")
        except Busy:
            return _again("Many people are computing just now: trying again.")
        except Lost:
            return _again("This was interrupted on our side: trying again.")
        response = HttpResponse(got.body, status=got.status)
        for name, value in got.headers:
            if name.lower() not in ("set-cookie", "content-length"):
                response[name] = value
        return response


def _told(status: int, detail: str) -> HttpResponse:
    return JsonResponse({"detail": detail}, status=status)


def _again(detail: str) -> HttpResponse:
    return JsonResponse({"detail": detail}, status=503, headers={"Retry-After": "1"})


def has_left(request: HttpRequest) -> bool:
    """Whether whoever asked has closed the connection, as far as the server lets us see it."""
    asker = request.META.get("gunicorn.socket")
    if asker is None:
        return False
    try:
        return not asker.recv(1, socket.MSG_PEEK | socket.MSG_DONTWAIT)
    except BlockingIOError:
        return False
    except (OSError, ValueError):
        return True
