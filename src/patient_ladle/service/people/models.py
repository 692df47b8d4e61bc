"""People and the tokens with which their programs sign in."""

from __future__ import annotations

import hashlib
from typing import ClassVar

from django.contrib.auth.base_user import AbstractBaseUser, BaseUserManager
from django.contrib.sessions.base_session import AbstractBaseSession, BaseSessionManager
from django.db import models
from django.utils.crypto import salted_hmac

TOLD_NOTHING, TOLD_FAILED, TOLD_ENDED = "nothing", "failed", "ended"
OWN_RUNS = (TOLD_NOTHING, TOLD_FAILED, TOLD_ENDED)
"""What people are told of runs that they start themselves, by hand or with a token."""
ROLES = ("reader", "runner", "author", "administrator")
"""Each role may do what the ones before it may."""


class Person(AbstractBaseUser):
    """Somebody who signs in."""

    name = models.CharField(max_length=64, unique=True)
    own_role = models.CharField(max_length=16, default="reader")
    role = models.CharField(max_length=16, default="reader")
    """The role in effect: the widest of their own and of their groups', written whenever one of them changes."""
    is_active = models.BooleanField(default=True)
    sign_in_round = models.PositiveIntegerField(default=0)
    """Counts up when the password changes or the person may no longer sign in: sessions of the round before end."""
    created_at = models.DateTimeField(auto_now_add=True)
    own_runs = models.CharField(max_length=8, default=TOLD_FAILED)
    mail = models.CharField(max_length=200, blank=True, default="")

    USERNAME_FIELD = "name"
    REQUIRED_FIELDS: ClassVar[list[str]] = []
    objects = BaseUserManager()

    def __str__(self) -> str:
        return self.name

    def _get_session_auth_hash(self, secret: str | None = None) -> str:
        """What a session must still be signed with: it ends with the password, and with the round."""
        said = f"{self.password} {self.sign_in_round}"
        return salted_hmac("patient_ladle.sessions", said, secret=secret, algorithm="sha256").hexdigest()


class PersonGroup(models.Model):
    """People who have at least the group's role as long as they are in it."""

    name = models.CharField(max_length=64, unique=True)
    role = models.CharField(max_length=16, default="reader")
    note = models.CharField(max_length=400, blank=True, default="")
    members = models.ManyToManyField(Person, related_name="member_of")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering: ClassVar = ["name"]


class Session(AbstractBaseSession):
    """A sign-in of a browser. It ends when it is gone from here; a new password, and an end of being active, end all."""

    session_key = models.CharField(max_length=40, unique=True)
    person = models.ForeignKey(Person, on_delete=models.CASCADE, null=True, related_name="sessions")
    made_at = models.DateTimeField()
    seen_at = models.DateTimeField()
    browser = models.CharField(max_length=100, blank=True, default="")
    address = models.CharField(max_length=64, blank=True, default="")

    current: bool = False
    """Whether it is the one that asks."""

    objects: ClassVar = BaseSessionManager()

    class Meta:
        ordering: ClassVar = ["-id"]


class SignInFailures(models.Model):
    """Failed sign-ins of one kind: of a name from a caller, of a caller, of a name; its key says which, and not in words."""

    key = models.CharField(max_length=64, unique=True)
    failed = models.PositiveIntegerField(default=0)
    wait_until = models.DateTimeField(null=True)
    seen_at = models.DateTimeField()


class Token(models.Model):
    """A bearer token: only its digest is kept. Its role is never above its person's."""

    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="tokens")
    made_by = models.ForeignKey("self", on_delete=models.CASCADE, null=True, related_name="made")
    """The token that asked for this one, which ends with it."""
    name = models.CharField(max_length=64)
    role = models.CharField(max_length=16)
    prefix = models.CharField(max_length=12)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField(null=True)
    last_used_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)
    secret_shown_once: str = ""
    """Known only to the answer that made the token."""

    class Meta:
        ordering: ClassVar = ["-id"]


def digest_of(secret: str) -> str:
    """SHA-256 in hex: enough for a token of 256 random bits."""
    return hashlib.sha256(secret.encode()).hexdigest()
