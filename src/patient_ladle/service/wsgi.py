"""The WSGI application that the web processes serve."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "patient_ladle.service.settings")
application = get_wsgi_application()
