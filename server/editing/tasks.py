"""Where the queue looks for this application's tasks and kinds of jobs."""

from editing import batches, joining, preparing, retargeting, storage

__all__ = ["batches", "joining", "preparing", "retargeting", "storage"]
