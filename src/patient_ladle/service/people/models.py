"""People and the tokens with which their programs sign in."""

from __future__ import annotations

import hashlib
from typing import ClassVar

from django.contrib.auth.base_user import AbstractBaseUser, BaseUserManager
from django.db import models

ROLES = ("reader", "runner", "author", "administrator")
"""Each role may do what the ones before it may."""


class Person(AbstractBaseUser):
    """Somebody who signs in."""

    name = models.CharField(max_length=64, unique=True)
    role = models.CharField(max_length=16, default="reader")
    is_active = models.BooleanField(default=True)
    failed_sign_ins = models.PositiveIntegerField(default=0)
    wait_until = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    USERNAME_FIELD = "name"
    REQUIRED_FIELDS: ClassVar[list[str]] = []
    objects = BaseUserManager()

    def __str__(self) -> str:
        return self.name


class Token(models.Model):
    """A bearer token: only its digest is kept. Its role is never above its person's."""

    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=64)
    role = models.CharField(max_length=16)
    prefix = models.CharField(max_length=12)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField(null=True)
    last_used_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)

    class Meta:
        ordering: ClassVar = ["-id"]


def digest_of(secret: str) -> str:
    """SHA-256 in hex: enough for a token of 256 random bits."""
    return hashlib.sha256(secret.encode()).hexdigest()
