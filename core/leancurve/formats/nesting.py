"""How much a text of brackets would make, told before it is parsed."""

from __future__ import annotations

import re


def weighed(text: bytes, quoted: re.Pattern[bytes], pairs: bytes) -> tuple[int, int]:
    """How many opening brackets and commas stand outside of what is ``quoted``, and how deep the
    brackets are nested. ``pairs`` are the brackets, each opening one before its closing one."""
    signs = quoted.sub(b"", text)
    opening = pairs[::2]
    depth = deepest = 0
    for sign in re.findall(rb"[%s]" % re.escape(pairs), signs):
        depth += 1 if sign in opening else -1
        deepest = max(deepest, depth)
    return sum(signs.count(bytes([s])) for s in opening + b","), deepest
