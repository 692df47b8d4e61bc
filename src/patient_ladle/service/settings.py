"""Django's settings, all from ``patient_ladle.variables``, whose defaults are safe on one machine. Raises WrongVariables."""

from __future__ import annotations

import socket
from typing import Any
from urllib.parse import urlsplit

from psycopg_pool.base import AttemptWithBackoff

from patient_ladle import variables
from patient_ladle.service.common.keys import data_directory, django_key

DATA = data_directory()
variables.refuse_wrong()
LISTEN = variables.LISTEN.value()
PORT = variables.PORT.value()
RESULT_STORE = variables.RESULT_STORE.value() or str(DATA / "results")
DELIVERY_ROOTS = variables.DELIVERY_ROOTS.value() or [DATA / "deliveries"]
SOURCE_ROOTS = variables.SOURCE_ROOTS.value() or [DATA / "source-files"]
SOURCE_SECRETS = variables.SOURCE_SECRETS.value() or DATA / "source-secrets"

AttemptWithBackoff.DELAY_BACKOFF = 1.0
"""A pool looks for a database that is away once a second: by its own way it would double its waits, up to minutes."""
DATABASE_URL = variables.DATABASE_URL.value()
_PARTS = variables.database_parts(DATABASE_URL)
_NAMED = {"host": "HOST", "port": "PORT", "user": "USER", "password": "PASSWORD", "dbname": "NAME"}
_LIMITS = "-c idle_in_transaction_session_timeout=60s -c lock_timeout=20s"
DATABASES: dict[str, dict[str, Any]] = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        **{ours: str(_PARTS.get(name, "")) for name, ours in _NAMED.items()},
        "CONN_HEALTH_CHECKS": True,  # a connection of before a restart of the database is not given to anybody
        "OPTIONS": {
            **{name: given for name, given in _PARTS.items() if name not in _NAMED},
            "pool": {"min_size": 1, "max_size": 10, "timeout": 10},
            "options": f"{_LIMITS} {_PARTS.get('options', '')}".strip(),
        },
    }
}

SECRET_KEY = django_key(DATA)
DEBUG = False
USE_TZ = True
PUBLIC_URL = variables.PUBLIC_URL.value() or f"http://{LISTEN}:{PORT}"

ALLOWED_HOSTS = ["localhost", socket.gethostname().lower(), socket.getfqdn().lower(), LISTEN, *variables.HOSTS.value()]
ALLOWED_HOSTS += [urlsplit(PUBLIC_URL).hostname or "localhost"]
TRUSTED_PROXIES = variables.TRUSTED_PROXIES.value()
"""Addresses of proxies whose word on a caller's address and on HTTPS is taken."""
_BY_HTTPS = PUBLIC_URL.startswith("https://")
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = _BY_HTTPS
CSRF_FAILURE_VIEW = "patient_ladle.service.console.views.refused_as_forged"
CSRF_TRUSTED_ORIGINS = [PUBLIC_URL] if _BY_HTTPS else []
WEBHOOK_HOSTS = variables.WEBHOOK_HOSTS.value()
WEBHOOK_PRIVATE = variables.WEBHOOK_PRIVATE.value()
RUN_MEMORY_BYTES = variables.RUN_MEMORY_MB.value() << 20
STALE_SECONDS = variables.STALE_SECONDS.value()
"""A scheduler that has not looked, and a worker that has not beaten, for so long is told of: nothing runs."""
STILL_SECONDS = variables.STILL_MINUTES.value() * 60
"""A run or a delivery that neither says nor does anything for so long hangs: it is ended, and told of."""
STOP_SECONDS = variables.STOP_SECONDS.value()
"""How long a worker that is stopped lets its runs go on before it hands them back."""
DELIVERY_HOURS = variables.DELIVERY_HOURS.value()
"""How long a delivery that can pass is tried again before a person decides about it."""
RETENTION_DAYS = variables.RETENTION_DAYS.value()
LOG_DAYS = variables.LOG_DAYS.value()
SUMMARY_AT = variables.SUMMARY_AT.value()
RETRY_SECONDS = variables.RETRY_SECONDS.value()
TIME_ZONE = variables.TIME_ZONE.value()
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
    "root": {"handlers": ["stderr"], "level": variables.LOG_LEVEL.value()},
    "loggers": {"django.request": {"level": "ERROR"}, "psycopg.pool": {"level": "ERROR"}, "mail.log": {"level": "WARNING"}},
}
