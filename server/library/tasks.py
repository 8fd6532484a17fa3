"""Where the queue looks for this application's tasks and kinds of jobs."""

from library import intake, jobs

__all__ = ["intake", "jobs"]
