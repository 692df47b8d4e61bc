"""How much a run of the tests tries: said here, and nowhere else.

``short`` is what ``./scripts/test`` does, the same examples each time. ``long`` (``./scripts/test --long``) draws anew,
twenty-five times as many, and adds what is marked ``long``: storms, orders of events, hostile lists and generated requests in full, pictures, all
widths, recipes, wall clocks. Its seed is printed; ``LADLE_SEED`` repeats it.
"""

from __future__ import annotations

import os
import random

from hypothesis import HealthCheck, settings
from hypothesis.internal.conjecture.providers import AVAILABLE_PROVIDERS, Constants, HypothesisProvider

LONG = os.environ.get("LADLE_TESTS", "short") == "long"
SEED = int(os.environ.setdefault("LADLE_SEED", str(random.SystemRandom().randrange(1_000_000) if LONG else 1)))
"""Handed down to every process of the run."""
EXAMPLES = 1_000 if LONG else 40
"""Of a generated test of factor 1."""

NIGHTS = 300 if LONG else 6
"""Nights in which anything happens in any order."""
STORM_KILLS = 60
REQUESTS = 20_000 if LONG else 600
TEXTS = 40_000 if LONG else 2_000
"""Generated texts for each dialect that is cut as its server cuts it."""
HOSTILE_TEXT_STEP, HOSTILE_VALUE_STEP = (1, 1) if LONG else (8, 16)
"""Each so-manieth text, and value, goes through every way into the service; all of them meet each engine in its contract."""
GATED_STEP = 1 if LONG else 4
"""Of hostile texts that meet the gate first: the gate has tests of its own, and every text meets each engine behind it."""
YEARS = 10 if LONG else 2
"""Over which every day of every rule is reckoned in another way."""
WIDTHS = (1280, 900, 600, 400) if LONG else (1280, 400)


def examples(factor: float, **more: object) -> settings:
    """Decorates a generated test: so many times the examples that others try."""
    return settings(max_examples=max(1, round(EXAMPLES * factor)), **more)


class Steady(HypothesisProvider):
    """Draws no constant of our own code: which of it is loaded depends on what ran before in the process."""

    _local_constants = Constants()


def load() -> None:
    """Make it the profile of generated tests: no example is kept from run to run, in the short form none is drawn anew."""
    settings.register_profile(
        "suite", deadline=None, suppress_health_check=list(HealthCheck), print_blob=True, database=None, derandomize=not LONG,
        max_examples=EXAMPLES,
    )  # fmt: skip
    settings.load_profile("suite")
    if not LONG:
        AVAILABLE_PROVIDERS["hypothesis"] = Steady
