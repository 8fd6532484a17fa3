"""One JSON object a log line, with the ids that tie a request, a job and a revision together."""

import json
import logging
import time
import uuid
from collections.abc import Callable
from contextvars import ContextVar
from typing import Any

from django.http import HttpRequest, HttpResponse

context: ContextVar[dict[str, Any] | None] = ContextVar("log_context", default=None)
log = logging.getLogger("lean.request")

_PLAIN = set(vars(logging.makeLogRecord({}))) | {"message", "asctime", "taskName"}


def note(**ids: Any) -> None:
    """Add ids (``revision=…``, ``job=…``) to every line of the request or job at hand."""
    context.set({**(context.get() or {}), **ids})


class JsonFormatter(logging.Formatter):
    """Message, level, time, the context's ids, and whatever was passed as ``extra``."""

    def format(self, record: logging.LogRecord) -> str:
        entry = {
            "time": self.formatTime(record, "%Y-%m-%dT%H:%M:%S%z"),
            "level": record.levelname,
            "logger": record.name,
            "message": record.getMessage(),
            **(context.get() or {}),
            **{k: v for k, v in vars(record).items() if k not in _PLAIN},
        }
        if record.exc_info:
            entry["trace"] = self.formatException(record.exc_info)
        return json.dumps(entry, default=str)


class RequestLog:
    """Gives each request an id, answers it in ``X-Request-Id``, logs status and milliseconds."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        # In a child process the request has its name already.
        name = request.META.get("lean.request")
        token = context.set({"request": name or uuid.uuid4().hex[:12]})
        began = time.perf_counter()
        try:
            response = self.get_response(request)
            response["X-Request-Id"] = (context.get() or {})["request"]
            if request.path.startswith("/api/"):
                log.info(
                    "computed" if name else "request",
                    extra={
                        "method": request.method,
                        "path": request.path,
                        "status": response.status_code,
                        "ms": round((time.perf_counter() - began) * 1000, 1),
                    },
                )
            return response
        finally:
            context.reset(token)
