"""Imported by the process that a worker's children are forked from: each begins with everything
loaded, and none with a connection of anybody else's."""

import django

django.setup()

from django.utils.module_loading import autodiscover_modules  # noqa: E402
from leancurve import warm  # noqa: E402

autodiscover_modules("tasks")

# Kernels compiled at set-up still load at their first call: here it is made once for all.
warm.main()
