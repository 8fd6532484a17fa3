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
LIGHT = frozenset({"history", "storage", "prepare", "deliveries", "here", "sources"})
WHOLE = frozenset(
    {
        "preview/whole", "preview/seams", "findings", "tolerances", "account", "account/frames",
        "drift", "orders", "cycles", "loops", "parts", "plants", "retarget/preview/whole",
        "version",
    }
)  # fmt: skip


ELSE: tuple[tuple[str, re.Pattern[str], Lane], ...] = (
    ("POST", re.compile(r"/api/takes/\d+/clip"), "quick"),
    ("GET", re.compile(r"/api/clips/\d+/lines/[^/]+/states"), "quick"),
    ("POST", re.compile(r"/api/clips/\d+/stored/\d+/pose"), "quick"),
    ("POST", re.compile(r"/api/clips/\d+/deliveries"), "quick"),
    ("POST", re.compile(r"/api/workspaces/\d+/retarget"), "whole"),
    ("POST", re.compile(r"/api/workspaces/\d+/join"), "whole"),
    ("POST", re.compile(r"/api/takes/\d+/version/swaps"), "whole"),
    ("POST", re.compile(r"/api/workspaces/\d+/handovers"), "whole"),
)
"""Addresses of other forms, and listings by a method alone, that compute as well."""


def lane_of(request: HttpRequest) -> Lane | None:
    """The lane of a request; None where it is light."""
    for method, address, lane in ELSE:
        if request.method == method and address.fullmatch(request.path_info):
            return lane
    found = _CLIP.fullmatch(request.path_info)
    if found is None or found["what"] in LIGHT:
        return None
    return "whole" if found["what"] in WHOLE else "quick"


def may_be_left(request: HttpRequest) -> bool:
    """Whether nobody needs the answer once its asker has left; what changes something goes on."""
    return request.method == "GET" or "/preview" in request.path_info


LONGEST_VIEW = 64
LARGEST_ASKED = 2**18


def newest_of(request: HttpRequest) -> tuple[Hashable, int] | None:
    """What a preview is the newest of, and its number there: a later one takes its place.

    This is remembered, and nobody has looked at the request yet: what is no page's id and no count
    is not.
    """
    if "/preview" not in request.path_info or request.method != "POST":
        return None
    if len(request.body) > LARGEST_ASKED:
        return None
    try:
        asked: Any = orjson.loads(request.body)
        view, sequence = asked["view"], asked["sequence"]
    except (orjson.JSONDecodeError, LookupError, TypeError):
        return None  # the view says what is wrong with it
    if not isinstance(view, str) or len(view) > LONGEST_VIEW:
        return None
    if type(sequence) is not int or abs(sequence) > 2**53:
        return None
    return (request.path_info, view), sequence
