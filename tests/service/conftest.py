"""Calls on the wire."""

from __future__ import annotations

import httpx
import pytest


@pytest.fixture
def http(service):
    """``http(method, path, name=…)`` on /api/v1 with that person's token."""

    def call(method, path, name="administrator", **given):
        service.ladle(name).close()
        headers = {"Authorization": f"Bearer {service.tokens[name]}"} | given.pop("headers", {})
        return httpx.request(method, f"{service.url}/api/v1{path}", headers=headers, timeout=60, **given)

    return call
