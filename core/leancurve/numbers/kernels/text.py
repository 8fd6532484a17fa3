"""Compiled scanner of whitespace-separated decimal numbers."""

from __future__ import annotations

import math

import numpy as np

from leancurve.numbers.arrays import Bytes, Floats, Ints
from leancurve.numbers.kernels import kernel

WIDTH = 32
"""Bytes of text a number may have to be read in one go with others."""
_POWERS: Floats = np.array([float(f"1e{k}") for k in range(23)])


@kernel
def quotient(mantissa: int, power: float) -> float:
    """``mantissa / power`` correctly rounded, or NaN where that cannot be told.

    A mantissa of up to 18 digits is split into a double and an exact rest; the remainder of
    the division is exact by Dekker's product (Numerische Mathematik 18, 1971). What is added to
    the quotient then errs by 2^-100: only a sum that close to the middle of two doubles is open.
    """
    high = float(mantissa)
    rest = float(mantissa - int(high))
    q = high / power
    big = 134217729.0 * q
    q1 = big - (big - q)
    q2 = q - q1
    big = 134217729.0 * power
    p1 = big - (big - power)
    p2 = power - p1
    product = q * power
    error = ((q1 * p1 - product) + q1 * p2 + q2 * p1) + q2 * p2
    more = (((high - product) - error) + rest) / power
    value = q + more
    left = np.abs(more - (value - q))
    fraction, exponent = math.frexp(value)
    half = math.ldexp(0.5, exponent - 53)
    if fraction == 0.5 or np.abs(left - half) < half * 1e-9:
        return np.nan
    return value


@kernel
def count_tokens(data: Bytes) -> tuple[int, int]:
    """How many tokens there are between white space, and how many lines hold some."""
    tokens = 0
    lines = 0
    inside = False
    filled = False
    for i in range(data.shape[0]):
        c = data[i]
        if c > 32:
            if not inside:
                tokens += 1
            if not filled:
                lines += 1
            inside = True
            filled = True
        else:
            inside = False
            if c == 10 or c == 13:
                filled = False
    return tokens, lines


@kernel
def scan(
    data: Bytes, values: Floats, rows: Ints, slow: Ints, powers: Floats
) -> tuple[int, int, int]:
    """Read every token of ``data`` as a number.

    Fills ``values``, and ``rows`` with a row for each line that holds numbers: which line, and how
    many values have been read by its end. A mantissa below 2^53 with a small exponent is exact in
    one multiplication or division of doubles (Clinger, PLDI 1990), one of up to 18 digits by
    :func:`quotient`; any other token is noted in ``slow`` as (value index, first byte, end byte)
    for the caller to read. Returns the counts of values, rows and slow tokens.
    """
    n = data.shape[0]
    i = 0
    count = 0
    line = 0
    row_count = 0
    told = 0
    slow_count = 0
    while i < n:
        c = data[i]
        if c <= 32:
            i += 1
            if c == 10 or c == 13:
                if c == 13 and i < n and data[i] == 10:
                    i += 1
                if count > told:
                    rows[row_count, 0] = line
                    rows[row_count, 1] = count
                    row_count += 1
                    told = count
                line += 1
            continue
        start = i
        negative = c == 45
        if negative or c == 43:
            i += 1
        mantissa = 0
        seen = 0
        shift = 0
        while i < n:
            digit = int(data[i]) - 48
            if digit < 0 or digit > 9:
                break
            mantissa = mantissa * 10 + digit
            seen += 1
            i += 1
        if i < n and data[i] == 46:
            i += 1
            whole = seen
            while i < n:
                digit = int(data[i]) - 48
                if digit < 0 or digit > 9:
                    break
                mantissa = mantissa * 10 + digit
                seen += 1
                i += 1
            shift = whole - seen
        # Beyond 18 digits the mantissa has overflowed.
        easy = 0 < seen <= 18
        if i < n and data[i] > 32:
            if easy and (data[i] == 101 or data[i] == 69):
                i += 1
                down = False
                if i < n and (data[i] == 45 or data[i] == 43):
                    down = data[i] == 45
                    i += 1
                exponent = 0
                places = 0
                while i < n and 48 <= data[i] <= 57 and places < 5:
                    exponent = exponent * 10 + (int(data[i]) - 48)
                    places += 1
                    i += 1
                easy = places > 0
                shift += -exponent if down else exponent
            else:
                easy = False
            if i < n and data[i] > 32:
                easy = False
                while i < n and data[i] > 32:
                    i += 1
        value = np.nan
        if easy and -22 <= shift <= 22:
            if mantissa <= 9007199254740992:
                if shift < 0:
                    value = float(mantissa) / powers[-shift]
                else:
                    value = float(mantissa) * powers[shift]
            elif shift < 0:
                value = quotient(mantissa, powers[-shift])
        if value == value:
            values[count] = -value if negative else value
        else:
            slow[slow_count, 0] = count
            slow[slow_count, 1] = start
            slow[slow_count, 2] = i
            slow_count += 1
            values[count] = 0.0
        count += 1
    if count > told:
        rows[row_count, 0] = line
        rows[row_count, 1] = count
        row_count += 1
    return count, row_count, slow_count


@kernel
def copy_tokens(data: Bytes, slow: Ints, out: Bytes) -> None:
    """Copy noted tokens into rows of zero-padded text; a longer one fills its row."""
    width = out.shape[1]
    for k in range(slow.shape[0]):
        start = slow[k, 1]
        length = min(slow[k, 2] - start, width)
        for i in range(length):
            out[k, i] = data[start + i]


def _read_slow(raw: Bytes, data: bytes, slow: Ints, values: Floats) -> list[int]:
    """Fill in the values of noted tokens; returns which of them are no finite numbers."""
    rows = np.zeros((len(slow), WIDTH), dtype=np.uint8)
    copy_tokens(raw, slow, rows)
    try:
        # As one array: numpy reads text as Python does.
        read = rows.view(f"S{WIDTH}")[:, 0].astype(np.float64)
        plain = not np.any(rows == ord("_")) and not np.any(rows[:, -1])
    except ValueError:
        plain = False
    if plain and np.all(np.isfinite(read)):
        values[slow[:, 0]] = read
        return []
    bad: list[int] = []
    for k, (index, start, stop) in enumerate(slow.tolist()):
        token = data[start:stop]
        try:
            if b"_" in token:
                raise ValueError
            values[index] = float(token)
        except ValueError:
            values[index] = np.nan
        if not np.isfinite(values[index]):
            bad.append(k)
    return bad


def scan_numbers(data: bytes) -> tuple[Floats, Ints, list[tuple[int, int, bytes]]]:
    """Values; a row ``(line, values read by its end)`` for each line that holds some; and
    unreadable tokens (index, line, token)."""
    raw = np.frombuffer(data, dtype=np.uint8)
    tokens, filled = count_tokens(raw)
    values = np.empty(tokens)
    rows = np.empty((filled, 2), dtype=np.int64)
    slow = np.empty((tokens, 3), dtype=np.int64)
    count, row_count, slow_count = scan(raw, values, rows, slow, _POWERS)
    rows = rows[:row_count]
    bad: list[tuple[int, int, bytes]] = []
    if slow_count:
        noted = slow[:slow_count]
        for k in _read_slow(raw, data, noted, values):
            index, start, stop = noted[k].tolist()
            line = int(rows[np.searchsorted(rows[:, 1], index, side="right"), 0])
            bad.append((index, line, data[start:stop]))
    return values[:count], rows, bad
