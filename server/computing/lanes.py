"""What is heavy: which requests go to child processes, and in which lane.

What works on a clip's numbers is quick (a few joints, an edit, what stands) or whole (all of a clip
measured or worked on). All else is light, and answered where it arrives.
"""

import re
from collections.abc import Hashable
from typing import Any, Literal

import orjson
from django.http import HttpRequest

Lane = Literal["quick", "whole"]

_CLIP = re.compile(r"/api/clips/\d+(?:/(?P<what>[a-z/]+))?")
_OPENS = re.compile(r"/api/takes/\d+/clip")
LIGHT = frozenset({"history", "storage", "prepare", "deliveries", "here", "carry"})
WHOLE = frozenset(
    {
        "preview/whole", "findings", "tolerances", "account", "account/frames", "drift", "orders",
        "cycles", "plants", "carry/preview/whole",
    }
)  # fmt: skip


def lane_of(request: HttpRequest) -> Lane | None:
    """The lane of a request; None where it is light."""
    if _OPENS.fullmatch(request.path_info):
        return "quick"
    found = _CLIP.fullmatch(request.path_info)
    if found is None or found["what"] in LIGHT:
        return None
    return "whole" if found["what"] in WHOLE else "quick"


def may_be_left(request: HttpRequest) -> bool:
    """Whether nobody needs the answer once its asker has left; what changes something goes on."""
    return request.method == "GET" or "/preview" in request.path_info


def newest_of(request: HttpRequest) -> tuple[Hashable, int] | None:
    """What a preview is the newest of, and its number there: a later one takes its place."""
    if "/preview" not in request.path_info or request.method != "POST":
        return None
    try:
        asked: Any = orjson.loads(request.body)
        return (request.path_info, str(asked["view"])), int(asked["sequence"])
    except (orjson.JSONDecodeError, LookupError, TypeError, ValueError):
        return None  # the view says what is wrong with it
