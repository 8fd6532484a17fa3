"""Imported by the process that children are forked from: each begins with everything loaded."""

from leancurve import warm

from computing.child import application

application()
# Kernels compiled at set-up still load at their first call: here it is made once for all.
warm.main()
