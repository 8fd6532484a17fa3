"""Bytes of documents, kept smaller than they are and given back as they were.

Numbers as captured have few decimals: a column of those is kept as whole numbers, by how each
departs from where the two before it lead. Other numbers are kept by the bits in which each differs
from the one before. Of either the bytes of like weight go side by side, through zlib (RFC 1950).
What would not get smaller is kept as it is, as all was once.
"""

import struct
import zlib
from typing import Any

import numpy as np
from django.db import models
from leancurve.numbers.arrays import AnyArray, Floats

MARK = b"\x01LCs"
"""What squeezed bytes begin with; in the safetensors layout it would be a header of petabytes."""
HEAD = struct.Struct("<4sBH")
"""The mark, the way that was taken, and how many bytes stand before the numbers."""
PLAIN, BITS, SIX_DECIMALS, TEN_DECIMALS = range(4)

LEAST = 512
"""Shorter ones are kept as they are."""
PARTS = {SIX_DECIMALS: 1e6, TEN_DECIMALS: 1e10}
"""A column whose numbers have no more decimals is kept as whole numbers of such parts: files mostly
have six, and operations write ten (``leancurve.operations.base.PARTS``)."""
LEVEL = 1
"""Of zlib: level 6 takes a third longer for a hundredth less, on captured and on made curves."""


def squeezed(data: bytes) -> bytes:
    """Bytes as they are kept."""
    if len(data) < LEAST and not data.startswith(MARK):
        return data
    way, head, body = _prepared(data)
    out = HEAD.pack(MARK, way, len(head)) + head + zlib.compress(body, LEVEL)
    return out if len(out) < len(data) or data.startswith(MARK) else data


def unsqueezed(data: bytes) -> bytes:
    """The bytes of :func:`squeezed`; others as they are."""
    if not data.startswith(MARK):
        return data
    _, way, length = HEAD.unpack_from(data)
    head = data[HEAD.size : HEAD.size + length]
    body = zlib.decompress(data[HEAD.size + length :])
    if way == PLAIN:
        return head + body
    words, tail = _side_by_side_undone(body)
    if way == BITS:
        return head + np.bitwise_xor.accumulate(words).tobytes() + tail
    return head + (_whole_numbers_undone(words) / PARTS[way]).tobytes() + tail


def _prepared(data: bytes) -> tuple[int, bytes, bytes]:
    """The way to keep bytes, what stands before their numbers, and what zlib gets."""
    at = _numbers_at(data)
    if at is None:
        return PLAIN, b"", data
    count = (len(data) - at) // 8
    words = np.frombuffer(data, "<u8", count, at)
    tail = data[at + 8 * count :]
    for way, parts in PARTS.items():
        whole = None if tail else _whole_numbers(words, parts)
        if whole is not None:
            return way, data[:at], _side_by_side(whole, tail)
    return BITS, data[:at], _side_by_side(_differing_bits(words), tail)


def _numbers_at(data: bytes) -> int | None:
    """Where the numbers of a track's columns begin in the safetensors layout: a header's length,
    the header, the columns, widest numbers first. None of other bytes."""
    if len(data) < 9:
        return None
    (length,) = struct.unpack_from("<Q", data)
    at = 8 + int(length)
    return at if data[8:9] == b"{" and at < min(len(data), 2**16) else None


def _whole_numbers(words: AnyArray, parts: float) -> AnyArray | None:
    """How whole parts depart from where the two before lead, the sign in the lowest bit; None where
    the numbers are no whole parts."""
    values: Floats = words.view("<f8")
    if not np.all(np.abs(values) < 2**52 / parts):
        return None
    whole = np.rint(values * parts).astype("<i8")
    if not np.array_equal((whole / parts).view("<u8"), words):
        return None
    apart = np.diff(whole, 2, prepend=[0, 0])
    return ((apart << 1) ^ (apart >> 63)).view("<u8")


def _whole_numbers_undone(words: AnyArray) -> AnyArray:
    apart = (words >> np.uint64(1)).view("<i8") ^ -(words & np.uint64(1)).view("<i8")
    return np.cumsum(np.cumsum(apart))


def _differing_bits(words: AnyArray) -> AnyArray:
    return words ^ np.concatenate([np.zeros(1, "<u8"), words[:-1]])


def _side_by_side(words: AnyArray, tail: bytes) -> bytes:
    """All lowest bytes of eight-byte words, then all next ones, and the few that are no word."""
    return np.ascontiguousarray(words.view(np.uint8).reshape(-1, 8).T).tobytes() + tail


def _side_by_side_undone(body: bytes) -> tuple[AnyArray, bytes]:
    count = len(body) // 8
    columns = np.frombuffer(body, np.uint8, 8 * count).reshape(8, count)
    return np.ascontiguousarray(columns.T).view("<u8").ravel(), body[8 * count :]


class SqueezedField(models.BinaryField):  # type: ignore[type-arg]
    """Bytes that are squeezed on their way to the database and whole on their way back."""

    def get_db_prep_value(self, value: Any, connection: Any, prepared: bool = False) -> Any:
        if value is not None:
            value = squeezed(bytes(value))
        return super().get_db_prep_value(value, connection, prepared)

    def from_db_value(self, value: Any, expression: Any, connection: Any) -> bytes | None:
        return None if value is None else unsqueezed(bytes(value))
