"""Operations: each changes a document in one way, described by its parameters.

One operation a file. An operation is pure and deterministic: the same clip, scope and
parameters give the same :class:`Patch`.
"""

from leancurve.operations.base import Cancelled, Operation, Patch, Scope, apply_patch
from leancurve.operations.registry import OPERATIONS, operation_named

__all__ = [
    "OPERATIONS",
    "Cancelled",
    "Operation",
    "Patch",
    "Scope",
    "apply_patch",
    "operation_named",
]
