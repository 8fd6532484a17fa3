"""Addresses: the API, health, and the one page of the interface for everything else."""

from api.interface import api
from api.pages import healthz, page, readyz, went_wrong
from django.urls import path, re_path

urlpatterns = [
    path("api/", api.urls),
    path("healthz", healthz),
    path("readyz", readyz),
    re_path(r"^(?!static/|api/).*$", page),
]
handler500 = went_wrong
