"""Write the API's description for the browser, and generate its types from it."""

import json
import subprocess
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand

from api.interface import api

FILE = Path("src/api/openapi.json")


def description() -> str:
    """The OpenAPI description as it is kept in the repository."""
    return json.dumps(api.get_openapi_schema(), indent=1, sort_keys=True) + "\n"


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        web = settings.PROJECT_DIR / "web"
        (web / FILE).parent.mkdir(parents=True, exist_ok=True)
        (web / FILE).write_text(description())
        subprocess.run(["npm", "run", "-s", "gen:api"], cwd=web, check=True)
