"""Parts are kept smaller than they are, and come back to the bit."""

from __future__ import annotations

import hashlib
import os

import numpy as np
import pytest
from django.db import connection
from documents.blobs import keep_blobs
from documents.models import Blob
from documents.packing import decode, encode
from documents.squeezing import MARK, squeezed, unsqueezed
from hypothesis import given
from hypothesis import strategies as st
from leancurve.curves.curve import SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.numbers.arrays import Floats

FRAMES = np.arange(3000.0)
CAPTURED = np.round(30.0 * np.sin(FRAMES / 40.0) + 5.0 * np.cos(FRAMES / 7.0), 6)
MADE = np.round(CAPTURED + 1e-5 * np.sin(FRAMES), 10)
FULL = CAPTURED + 1e-9 * np.sin(FRAMES)
LOCAL = np.where(np.abs(FRAMES - 1500.0) < 60.0, np.sin(FRAMES), 0.0)


@pytest.mark.parametrize(
    ("values", "share"),
    [(CAPTURED, 0.3), (MADE, 0.5), (FULL, 0.85), (LOCAL, 0.06), (np.zeros(3000), 0.01)],
    ids=["captured", "made", "all digits", "hand work in one place", "none"],
)  # fmt: skip
def test_a_value_on_every_frame_takes_a_share(values: Floats, share: float) -> None:
    data = encode(SampledCurve(values))
    kept = squeezed(data)
    assert unsqueezed(kept) == data
    assert len(kept) <= share * len(data)


ODD = (-0.0, 0.0, 5e-324, 1e300, -1e300, 2147.483647, 0.1, 1e-6, -180.0, 2**31 - 1, 2**40 + 0.5)


@given(st.lists(st.sampled_from(ODD) | st.floats(), min_size=64, max_size=200))
def test_any_numbers_come_back_to_the_bit(numbers: list[float]) -> None:
    data = encode(SampledCurve(np.array(numbers)))
    assert unsqueezed(squeezed(data)) == data


@given(st.binary(max_size=900).flatmap(lambda b: st.sampled_from((b, MARK + b, b * 7, MARK))))
def test_any_bytes_come_back(data: bytes) -> None:
    assert unsqueezed(squeezed(data)) == data


def test_columns_of_keys_and_noise_come_back() -> None:
    curve = keyed(np.arange(200.0), np.sin(np.arange(200.0)))
    data = encode(curve)
    assert len(squeezed(data)) < 0.6 * len(data)
    assert encode(decode(unsqueezed(squeezed(data)))) == data
    noise = os.urandom(5000)
    assert squeezed(noise) == noise


def test_the_open_capture_takes_less_than_a_third(open_capture: Clip) -> None:
    every = [encode(curve) for curve in open_capture.curves.values()]
    kept = [squeezed(data) for data in every]
    assert [unsqueezed(k) for k in kept] == every
    assert sum(map(len, kept)) < sum(map(len, every)) / 3


@pytest.mark.django_db
def test_what_was_kept_as_it_is_and_what_is_kept_smaller_are_read_alike() -> None:
    data = encode(SampledCurve(CAPTURED))
    sha = hashlib.sha256(data).hexdigest()
    keep_blobs({sha: data})
    with connection.cursor() as cursor:
        cursor.execute("INSERT INTO editing_blob (sha, data) VALUES (%s, %s)", ["as before", data])
        cursor.execute("SELECT sha, length(data) FROM editing_blob")
        sizes = dict(cursor.fetchall())
    assert sizes["as before"] == len(data) > 3 * sizes[sha]
    assert {bytes(d) for d in Blob.objects.values_list("data", flat=True)} == {data}
