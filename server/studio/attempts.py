"""Failed attempts to sign in, counted by address: by name and address the package does."""

from axes.models import AccessAttempt
from django.conf import settings
from django.db.models import Sum
from django.http import HttpRequest
from django.utils import timezone
from plumbing.addresses import address_of


def address_waits(request: HttpRequest) -> bool:
    """Whether too many attempts under any names came from the asker's address lately."""
    since = timezone.now() - settings.AXES_COOLOFF_TIME
    lately = AccessAttempt.objects.filter(ip_address=address_of(request), attempt_time__gt=since)
    failed = lately.aggregate(n=Sum("failures_since_start"))["n"] or 0
    return bool(failed >= settings.ADDRESS_FAILURE_LIMIT)
