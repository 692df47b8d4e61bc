"""How passwords are hashed: Argon2id with the least memory that is recommended, so that a flood of sign-ins costs little."""

from __future__ import annotations

from django.contrib.auth.hashers import Argon2PasswordHasher


class ModestArgon2(Argon2PasswordHasher):
    """19 MiB, two rounds, one lane (OWASP's first choice of parameters); hashes made otherwise are still read."""

    time_cost = 2
    memory_cost = 19_456
    parallelism = 1
