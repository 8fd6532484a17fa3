"""Where the queue looks for tasks: importing these registers every kind of job."""

from delivery import deliver
from editing import batches, carrying, preparing, storage
from place import bins, housekeeping, moving

from library import intake, jobs

__all__ = [
    "batches",
    "bins",
    "carrying",
    "deliver",
    "housekeeping",
    "intake",
    "jobs",
    "moving",
    "preparing",
    "storage",
]
