"""Where the queue looks for this application's tasks and kinds of jobs."""

from studio import bins, housekeeping, moving

__all__ = ["bins", "housekeeping", "moving"]
