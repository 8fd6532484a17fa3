"""What any request may hold, whatever it asks for: plain text and numbers of a stated size.

One guard, not one a field: JSON as RFC 8259 has it (no NaN), text that a database can hold (no NUL,
no half of a surrogate pair), numbers that every part of the work can count with.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from typing import Any

import orjson
from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from leancurve.errors import BadInput, short
from ninja.parser import Parser

LARGEST = 2.0**53
"""The whole numbers that a double holds exactly: ids and frames are far below."""
DEEPEST = 40
NO_TEXT = re.compile("[\0\ud800-\udfff]")


class StrictParser(Parser):
    """Reads JSON bodies; keeps what is wrong on the request: ninja says no more than 400."""

    def parse_body(self, request: HttpRequest) -> Any:
        try:
            value = _json(request)
            require_plain(value, "body")
        except BadInput as trouble:
            request.trouble = trouble  # type: ignore[attr-defined]
            raise
        return value


def _json(request: HttpRequest) -> Any:
    try:
        return orjson.loads(request.body)
    except orjson.JSONDecodeError as trouble:
        raise BadInput(f"body: not valid JSON, {trouble.msg}") from None


def require_plain(value: Any, where: str, depth: int = 0) -> None:
    """Raise :class:`BadInput` naming the part of a JSON value that no request may hold."""
    if depth > DEEPEST:
        raise BadInput(f"{short(where)}: nested more than {DEEPEST} deep")
    if isinstance(value, str):
        require_text(value, where)
    elif isinstance(value, dict):
        for name, inner in value.items():
            require_text(name, where)
            require_plain(inner, f"{where}.{short(name, 24)}", depth + 1)
    elif isinstance(value, list):
        for k, inner in enumerate(value):
            if not isinstance(inner, int | float) or not _counts(inner):
                require_plain(inner, f"{where}[{k}]", depth + 1)
    elif isinstance(value, int | float) and not _counts(value):
        raise BadInput(f"{short(where)}: expected a number within ±2^53")


def _counts(value: float) -> bool:
    return math.isfinite(value) and abs(value) <= LARGEST


def require_text(text: str, where: str) -> None:
    if NO_TEXT.search(text):
        raise BadInput(f"{short(where)}: contains characters that are not allowed in text")


def _require_json(request: HttpRequest) -> None:
    """Bodies are JSON, but for files that are brought in."""
    path, kind = request.path_info, request.content_type or ""
    empty = request.META.get("CONTENT_LENGTH") in (None, "", "0")
    if path.startswith("/api/") and not (empty or "json" in kind or path.endswith("/files")):
        raise BadInput(f"body: expected JSON, got {short(kind, 40) or 'no content type'}")


class LittleOfStrangers:
    """Middleware: of somebody who has not signed in no more is read than signing in takes."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        try:
            size = int(request.META.get("CONTENT_LENGTH") or 0)
        except ValueError:
            size = 0
        if size > settings.UNKNOWN_BYTES and not request.user.is_authenticated:
            return JsonResponse({"detail": "Sign in first."}, status=401)
        return self.get_response(request)


def plain_requests(answer: Callable[[HttpRequest], HttpResponse]) -> Any:
    """Middleware: addresses and parameters are plain text with numbers that can be counted, and
    bodies of the kind that is expected."""

    def guarded(request: HttpRequest) -> HttpResponse:
        try:
            require_text(request.path_info, "address")
            for name, values in request.GET.lists():
                for text in (name, *values):
                    require_text(text, f"parameter {short(name, 24)}")
            _require_json(request)
            numbers = [*request.path_info.split("/"), *request.GET.values()]
            if any(part.isdigit() and len(part) > 15 for part in numbers):
                raise BadInput("address: a number in it is too large")
        except BadInput as trouble:
            return JsonResponse({"detail": str(trouble)}, status=422)
        return answer(request)

    return guarded
