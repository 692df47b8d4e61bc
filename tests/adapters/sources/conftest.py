"""Sources that are made once and read by several modules."""

from __future__ import annotations

import pytest

from tests.adapters.sources.small_tables import BUILT, ENGINES, Source


@pytest.fixture(scope="session")
def small_sources(home, request):
    """Each is made when it is first asked for."""
    made: dict[str, Source] = {}

    def named(name: str) -> Source:
        if name not in made:
            made[name] = Source(name, *BUILT[name](home, request))
        return made[name]

    return named


@pytest.fixture(params=ENGINES)
def source(request, small_sources):
    return small_sources(request.param)
