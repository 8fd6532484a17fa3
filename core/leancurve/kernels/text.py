"""Compiled scanner of whitespace-separated decimal numbers."""

from __future__ import annotations

import numpy as np

from leancurve.arrays import Bytes, Floats, Ints
from leancurve.kernels import kernel

_POWERS: Floats = np.array([float(f"1e{k}") for k in range(23)])


@kernel
def scan(
    data: Bytes, values: Floats, line_ends: Ints, slow: Ints, powers: Floats
) -> tuple[int, int, int]:
    """Read every token of ``data`` as a number.

    Fills ``values``, and in ``line_ends`` how many values have been read by the end of each
    line. A token of at most 15 significant digits and a small exponent is exact in one
    multiplication or division of doubles (Clinger, PLDI 1990); any other is noted in ``slow``
    as (value index, first byte, end byte) for the caller to read. Returns the counts of
    values, lines and slow tokens.
    """
    n = data.shape[0]
    i = 0
    count = 0
    lines = 0
    slow_count = 0
    while i < n:
        c = data[i]
        if c == 10 or c == 13:
            if c == 13 and i + 1 < n and data[i + 1] == 10:
                i += 1
            line_ends[lines] = count
            lines += 1
            i += 1
            continue
        if c == 32 or c == 9 or c == 11 or c == 12:
            i += 1
            continue
        start = i
        negative = False
        if c == 45:
            negative = True
            i += 1
        elif c == 43:
            i += 1
        mantissa = 0
        digits = 0
        seen = 0
        shift = 0
        easy = True
        while i < n and 48 <= data[i] <= 57:
            seen += 1
            if digits > 0 or data[i] != 48:
                digits += 1
            if digits <= 18:
                mantissa = mantissa * 10 + (data[i] - 48)
            i += 1
        if i < n and data[i] == 46:
            i += 1
            while i < n and 48 <= data[i] <= 57:
                seen += 1
                if digits > 0 or data[i] != 48:
                    digits += 1
                if digits <= 18:
                    mantissa = mantissa * 10 + (data[i] - 48)
                    shift -= 1
                i += 1
        if seen == 0 or digits > 15:
            easy = False
        if easy and i < n and (data[i] == 101 or data[i] == 69):
            i += 1
            down = False
            if i < n and (data[i] == 45 or data[i] == 43):
                down = data[i] == 45
                i += 1
            exponent = 0
            places = 0
            while i < n and 48 <= data[i] <= 57 and places < 5:
                exponent = exponent * 10 + (data[i] - 48)
                places += 1
                i += 1
            if places == 0:
                easy = False
            shift += -exponent if down else exponent
        if i < n and data[i] > 32:
            easy = False
            while i < n and data[i] > 32:
                i += 1
        if easy and -22 <= shift <= 22:
            v = float(mantissa)
            if shift < 0:
                v = v / powers[-shift]
            elif shift > 0:
                v = v * powers[shift]
            values[count] = -v if negative else v
        else:
            slow[slow_count, 0] = count
            slow[slow_count, 1] = start
            slow[slow_count, 2] = i
            slow_count += 1
            values[count] = 0.0
        count += 1
    line_ends[lines] = count
    lines += 1
    return count, lines, slow_count


def scan_numbers(data: bytes) -> tuple[Floats, Ints, list[tuple[int, int, bytes]]]:
    """Values, values read by each line's end, and unreadable tokens (index, line, token)."""
    raw = np.frombuffer(data, dtype=np.uint8)
    most = len(data) // 2 + 1
    values = np.empty(most)
    line_ends = np.empty(data.count(b"\n") + data.count(b"\r") + 1, dtype=np.int64)
    slow = np.empty((most, 3), dtype=np.int64)
    count, lines, slow_count = scan(raw, values, line_ends, slow, _POWERS)
    ends = line_ends[:lines]
    bad: list[tuple[int, int, bytes]] = []
    for index, start, stop in slow[:slow_count].tolist():
        token = data[start:stop]
        try:
            if b"_" in token:
                raise ValueError
            values[index] = float(token)
            readable = bool(np.isfinite(values[index]))
        except ValueError:
            readable = False
        if not readable:
            bad.append((index, int(np.searchsorted(ends, index, side="right")), token))
    return values[:count], ends, bad
