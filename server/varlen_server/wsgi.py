"""The application that gunicorn serves."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "varlen_server.settings")
application = get_wsgi_application()

# The views with all they need, before the first request.
import varlen_server.urls  # noqa: E402, F401
