"""Where the queue looks for this application's tasks and kinds of jobs."""

from editing import batches, preparing, retargeting, storage

__all__ = ["batches", "preparing", "retargeting", "storage"]
