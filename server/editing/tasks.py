"""Where the queue looks for this application's tasks and kinds of jobs."""

from editing import batches, carrying, preparing, storage

__all__ = ["batches", "carrying", "preparing", "storage"]
