"""How a file that is wrong is refused."""

from __future__ import annotations

import pytest
from leancurve.errors import BadInput
from leancurve.formats.choices import AS_TOLD, Choices
from leancurve.formats.files import read_takes


def is_refused(data: bytes, why: str, file: str, choices: Choices = AS_TOLD) -> None:
    """With one sentence that names the file."""
    with pytest.raises(BadInput, match=why) as refused:
        read_takes(data, file, choices=choices)
    assert str(refused.value).startswith(f"{file}: ")
    assert "\n" not in str(refused.value)
