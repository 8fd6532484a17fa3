"""Where a request comes from."""

from django.conf import settings
from django.http import HttpRequest


def address_of(request: HttpRequest) -> str:
    """The asker's address: behind a proxy that speaks HTTPS what the proxy has put last."""
    forwarded = request.META.get("HTTP_X_FORWARDED_FOR", "") if settings.HTTPS else ""
    return forwarded.rpartition(",")[2].strip() or request.META.get("REMOTE_ADDR", "")
