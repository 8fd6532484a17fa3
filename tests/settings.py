"""The application's settings, with a password hash that costs tests no time."""

from config.settings import *  # noqa: F403

# A test's own transaction is seen by no other process.
COMPUTERS = 0
JOBS_APART = False
# Each look looks anew.
READY_FOR_S = 0.0
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
