"""Where a request comes from, and whose word on it is believed."""

from collections.abc import Callable
from ipaddress import ip_address

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse

TOLD = ("HTTP_X_FORWARDED_FOR", "HTTP_X_FORWARDED_PROTO")


def is_proxy(address: str) -> bool:
    """Whether an address is that of one of the proxies that stand in front."""
    try:
        at = ip_address(address)
    except ValueError:
        # A socket of this machine's has no address.
        return not address
    return any(at in network for network in settings.PROXIES)


class ProxiesAlone:
    """What anybody else than a proxy says of where a request comes from is not heard."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        asker = request.META.get("REMOTE_ADDR", "")
        if not is_proxy(asker):
            said = [request.META.pop(name, None) for name in TOLD]
            if settings.HTTPS and said[1] is not None:
                detail = f"{asker} speaks as a proxy, and is none: LEAN_PROXIES names those."
                return JsonResponse({"detail": detail}, status=400)
        return self.get_response(request)


def address_of(request: HttpRequest) -> str:
    """The asker's address: what the last proxy that is one of ours was asked from."""
    at: str = request.META.get("REMOTE_ADDR", "")
    chain = [part.strip() for part in request.META.get("HTTP_X_FORWARDED_FOR", "").split(",")]
    for before in reversed([part for part in chain if part]):
        if not is_proxy(at):
            break
        at = before
    return at
