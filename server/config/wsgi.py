"""What gunicorn serves."""

import os
import threading

from django.core.wsgi import get_wsgi_application
from leancurve import warm

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
application = get_wsgi_application()

# Kernels compiled at set-up still load at their first call: not at somebody's first click.
threading.Thread(target=warm.main, daemon=True).start()
