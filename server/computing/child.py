"""A child process: answers requests one after another, through all of Django, as the web would."""

import io
import os
import resource
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from multiprocessing.connection import Connection
from typing import Any

from django.conf import settings
from django.core.wsgi import get_wsgi_application

from computing.wanted import ask_with

READY = "ready"
"""What a child says before it takes anything."""
NICENESS = 5
"""Below the web process: what is light does not wait for what is heavy."""


@dataclass(frozen=True)
class Answer:
    """A response as it goes over the wire."""

    status: int
    headers: list[tuple[str, str]]
    body: bytes


application = cache(get_wsgi_application)


def answer(environ: dict[str, Any], body: bytes) -> Answer:
    """What Django answers to a request."""
    begun: list[Any] = []

    def start_response(status: str, headers: list[tuple[str, str]], *_: Any) -> Callable[..., None]:
        begun.extend((int(status.split(" ", 1)[0]), headers))
        return lambda _: None

    full = {
        **environ,
        "wsgi.input": io.BytesIO(body),
        "wsgi.errors": io.StringIO(),
        "wsgi.version": (1, 0),
        "wsgi.multithread": False,
        "wsgi.multiprocess": True,
        "wsgi.run_once": False,
    }
    response = application()(full, start_response)
    try:
        content = b"".join(response)
    finally:
        response.close()  # type: ignore[attr-defined]
    return Answer(begun[0], begun[1], content)


def serve(connection: Connection, stopped: Any) -> None:
    """Answer what comes through ``connection`` until it is closed.

    ``stopped.value`` is the number of the request that nobody waits for any more.
    """
    os.nice(NICENESS)
    most = settings.COMPUTER_MEMORY_BYTES
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    application()
    connection.send(READY)
    at = 0
    ask_with(lambda: stopped.value != at)
    while True:
        try:
            at, environ, body = connection.recv()
            connection.send(answer(environ, body))
        except (EOFError, BrokenPipeError, KeyboardInterrupt):
            return
