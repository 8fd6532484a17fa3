"""Where the queue looks for this application's kinds of jobs."""

from delivery import deliver

__all__ = ["deliver"]
