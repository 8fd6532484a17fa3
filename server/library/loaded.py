"""Imported by the process that a worker's children are forked from: each begins with everything
loaded, and none with a connection of anybody else's."""

import django

django.setup()

from leancurve import warm  # noqa: E402

from library import parsing, tasks  # noqa: E402, F401

# Kernels compiled at set-up still load at their first call: here it is made once for all.
warm.main()
