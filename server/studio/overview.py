"""What whoever runs the studio looks at: all of it read from the database."""

import platform
from datetime import timedelta
from typing import Any

import django
from django.contrib.auth.models import User
from django.db import connection
from django.db.models import Count
from django.utils import timezone
from leancurve import __version__
from leancurve.document.evaluation import VERSION as EVALUATION
from leancurve.measures.findings import VERSION as DETECTORS
from library.jobs import workers_alive
from library.models import Job, Workspace

from studio.bins import binned_in
from studio.usage import usage_of

LATELY = timedelta(days=1)
MOST_FAILURES = 30


def overview() -> dict[str, Any]:
    """Versions, workspaces with their bytes, people, jobs of the last day, failures, workers."""
    now = timezone.now()
    lately = Job.objects.filter(updated__gt=now - LATELY)
    failed = Job.objects.filter(state=Job.State.FAILED).select_related("workspace")
    return {
        "versions": _versions(),
        "database_bytes": _one("SELECT pg_database_size(current_database())"),
        "workers": workers_alive(),
        "workspaces": [_workspace(w) for w in Workspace.objects.order_by("name")],
        "people": [_person(u) for u in User.objects.order_by("username")],
        "jobs": list(lately.values("kind", "state").annotate(count=Count("pk")).order_by("kind")),
        "coming_in": list(Job.objects.filter(workspace=None, kind="bring in workspace")[:10]),
        "waiting": Job.objects.filter(state=Job.State.QUEUED).count(),
        "failures": [
            {
                "kind": job.kind,
                "title": job.title,
                "message": job.message,
                "workspace": job.workspace.name if job.workspace else "",
                "when": job.updated,
            }
            for job in failed.order_by("-updated")[:MOST_FAILURES]
        ],
    }


def _versions() -> dict[str, str]:
    return {
        "Lean Curve": __version__,
        "evaluation of documents": str(EVALUATION),
        "findings": str(DETECTORS),
        "PostgreSQL": str(_one("SHOW server_version")),
        "Django": django.get_version(),
        "Python": platform.python_version(),
    }


def _workspace(workspace: Workspace) -> dict[str, Any]:
    usage = usage_of(workspace)
    return {
        "id": workspace.pk,
        "name": workspace.name,
        "people": workspace.memberships.count(),
        "usage": usage,
        "binned_bytes": sum(b.bytes for b in binned_in(workspace)),
    }


def _person(user: User) -> dict[str, Any]:
    places = user.memberships.select_related("workspace").order_by("workspace__name")
    return {
        "id": user.pk,
        "name": user.username,
        "can_sign_in": user.is_active,
        "runs_studio": user.is_staff,
        "last_seen": user.last_login,
        "workspaces": [{"name": m.workspace.name, "role": m.role} for m in places],
    }


def _one(query: str) -> Any:
    with connection.cursor() as cursor:
        cursor.execute(query)
        return cursor.fetchone()[0]
