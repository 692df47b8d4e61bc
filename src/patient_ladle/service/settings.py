"""Django's settings, all from ``LADLE_…`` variables with defaults that are safe on one machine."""

from __future__ import annotations

import os
import socket
from pathlib import Path
from urllib.parse import unquote, urlsplit

from psycopg_pool.base import AttemptWithBackoff

from patient_ladle.core.runs.retrying import FIRST_WAIT_SECONDS
from patient_ladle.service.common.keys import data_directory, django_key

DATA = data_directory()
LISTEN = os.environ.get("LADLE_LISTEN", "127.0.0.1")
PORT = int(os.environ.get("LADLE_PORT", "8470"))
RESULT_STORE = os.environ.get("LADLE_RESULT_STORE") or str(DATA / "results")
DELIVERY_ROOTS = [Path(p) for p in os.environ.get("LADLE_DELIVERY_ROOTS", "").split(":") if p] or [DATA / "deliveries"]
SOURCE_ROOTS = [Path(p) for p in os.environ.get("LADLE_SOURCE_ROOTS", "").split(":") if p] or [DATA / "source-files"]
SOURCE_SECRETS = Path(os.environ.get("LADLE_SOURCE_SECRETS") or DATA / "source-secrets")

AttemptWithBackoff.DELAY_BACKOFF = 1.0
"""A pool looks for a database that is away once a second: by its own way it would double its waits, up to minutes."""
_URL = urlsplit(os.environ.get("LADLE_DATABASE_URL", "postgresql://ladle@127.0.0.1:5432/ladle"))
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": _URL.hostname or "",
        "PORT": str(_URL.port or 5432),
        "USER": unquote(_URL.username or ""),
        "PASSWORD": unquote(_URL.password or ""),
        "NAME": _URL.path.lstrip("/"),
        "CONN_HEALTH_CHECKS": True,  # a connection of before a restart of the database is not given to anybody
        "OPTIONS": {
            "pool": {"min_size": 1, "max_size": 10, "timeout": 10},
            "options": "-c idle_in_transaction_session_timeout=60s -c lock_timeout=20s",
        },
    }
}

SECRET_KEY = django_key(DATA)
DEBUG = False
USE_TZ = True
PUBLIC_URL = os.environ.get("LADLE_PUBLIC_URL", f"http://{LISTEN}:{PORT}").rstrip("/")


def _listed(name: str) -> list[str]:
    return [word.strip().lower() for word in os.environ.get(name, "").split(",") if word.strip()]


ALLOWED_HOSTS = ["localhost", socket.gethostname().lower(), socket.getfqdn().lower(), LISTEN, *_listed("LADLE_HOSTS")]
ALLOWED_HOSTS += [urlsplit(PUBLIC_URL).hostname or "localhost"]
TRUSTED_PROXIES = _listed("LADLE_TRUSTED_PROXIES")
"""Addresses of proxies whose word on a caller's address and on HTTPS is taken."""
_BY_HTTPS = PUBLIC_URL.startswith("https://")
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = _BY_HTTPS
CSRF_FAILURE_VIEW = "patient_ladle.service.console.views.refused_as_forged"
CSRF_TRUSTED_ORIGINS = [PUBLIC_URL] if _BY_HTTPS else []
WEBHOOK_HOSTS = _listed("LADLE_WEBHOOK_HOSTS")
WEBHOOK_PRIVATE = os.environ.get("LADLE_WEBHOOK_PRIVATE", "no").lower() in ("yes", "true", "1")
RUN_MEMORY_BYTES = int(os.environ.get("LADLE_RUN_MEMORY_MB", "2048")) << 20
STALE_SECONDS = float(os.environ.get("LADLE_STALE_SECONDS", "60"))
"""A scheduler that has not looked, and a worker that has not beaten, for so long is told of: nothing runs."""
STILL_SECONDS = float(os.environ.get("LADLE_STILL_MINUTES", "15")) * 60
"""A run or a delivery that neither says nor does anything for so long hangs: it is ended, and told of."""
STOP_SECONDS = float(os.environ.get("LADLE_STOP_SECONDS", "20"))
"""How long a worker that is stopped lets its runs go on before it hands them back."""
DELIVERY_HOURS = float(os.environ.get("LADLE_DELIVERY_HOURS", "24"))
"""How long a delivery that can pass is tried again before a person decides about it."""
RETENTION_DAYS = int(os.environ.get("LADLE_RETENTION_DAYS", "90"))
LOG_DAYS = int(os.environ.get("LADLE_LOG_DAYS", "400"))
SUMMARY_AT = os.environ.get("LADLE_SUMMARY_AT", "07:00")
RETRY_SECONDS = float(os.environ.get("LADLE_RETRY_SECONDS", FIRST_WAIT_SECONDS))
TIME_ZONE = os.environ.get("LADLE_TIME_ZONE", "UTC")
ROOT_URLCONF = "patient_ladle.service.urls"
WSGI_APPLICATION = "patient_ladle.service.wsgi.application"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
APPEND_SLASH = False
MAX_BODY_BYTES = 2 * 1024 * 1024
"""Room for the largest statement many times over; a larger body is refused before it is read."""
MAX_TABLE_BYTES = 12 * 1024 * 1024
"""The same for a lookup of a hundred thousand rows."""

_OWN = "patient_ladle.service"
INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.auth",
    "django.contrib.sessions",
    "rest_framework",
    "drf_spectacular",
    f"{_OWN}.people",
    f"{_OWN}.sources",
    f"{_OWN}.alerts",
    f"{_OWN}.lookups",
    f"{_OWN}.extracts",
    f"{_OWN}.schedules",
    f"{_OWN}.ledger",
    f"{_OWN}.runs",
]
MIDDLEWARE = [
    f"{_OWN}.common.middleware.RequestMiddleware",
    f"{_OWN}.console.views.ConsoleFiles",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
]
AUTH_USER_MODEL = "people.Person"
PASSWORD_HASHERS = [f"{_OWN}.people.hashing.ModestArgon2"]
SESSION_ENGINE = f"{_OWN}.people.sessions"
SESSION_COOKIE_NAME = "ladle_session"
SESSION_COOKIE_AGE = 12 * 3600
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
TEMPLATES: list[dict[str, object]] = []

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        f"{_OWN}.people.authentication.BearerAuthentication",
        f"{_OWN}.people.authentication.ConsoleAuthentication",
    ],
    "DEFAULT_PERMISSION_CLASSES": [f"{_OWN}.people.authentication.RolePermission"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": [f"{_OWN}.common.parsing.StrictJSONParser"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": f"{_OWN}.common.problems.problem_response",
    "UNAUTHENTICATED_USER": None,
}
SPECTACULAR_SETTINGS = {
    "ENUM_NAME_OVERRIDES": {
        "RunState": f"{_OWN}.ledger.states.STATES",
        "RoleEnum": f"{_OWN}.people.models.ROLES",
        "QueryState": f"{_OWN}.sources.models.QUERY_STATES",
        "QueryKind": f"{_OWN}.sources.interactive.KINDS",
        "BackfillState": f"{_OWN}.runs.backfills_api.BACKFILL_STATES",
        "FieldKind": ["text", "integer"],
    },
    "TITLE": "Patient Ladle",
    "VERSION": "1",
    "DESCRIPTION": "Shared extract queries, run unattended, with result files that can be proven whole.",
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        f"{_OWN}.common.document.with_problems",
        f"{_OWN}.common.document.with_words",
    ],
    "SERVE_INCLUDE_SCHEMA": False,
    "SERVE_PERMISSIONS": [f"{_OWN}.people.authentication.RolePermission"],
    "COMPONENT_SPLIT_REQUEST": False,
    "ENUM_ADD_EXPLICIT_BLANK_NULL_CHOICE": False,
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"format": "%(asctime)s %(levelname)s %(name)s: %(message)s"}},
    "handlers": {"stderr": {"class": "logging.StreamHandler", "formatter": "line"}},
    "root": {"handlers": ["stderr"], "level": os.environ.get("LADLE_LOG_LEVEL", "INFO")},
    "loggers": {"django.request": {"level": "ERROR"}, "psycopg.pool": {"level": "ERROR"}, "mail.log": {"level": "WARNING"}},
}
