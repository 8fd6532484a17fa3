"""What gunicorn serves."""

import os
import threading

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
application = get_wsgi_application()

from computing.away import begin  # noqa: E402

# Not at somebody's first click: children take a moment to be ready.
threading.Thread(target=begin, daemon=True).start()
