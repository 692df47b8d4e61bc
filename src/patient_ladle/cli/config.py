"""Where the service is and who one is: options, ``LADLE_…`` variables, then files in the platform's usual place."""

from __future__ import annotations

import json
import os
import tomllib
from pathlib import Path

import platformdirs

from patient_ladle.client.errors import ClientError

DEFAULT_URL = "http://127.0.0.1:8470"


def folder() -> Path:
    """The folder of ``config.toml`` and ``tokens.json``; LADLE_CONFIG overrides it."""
    given = os.environ.get("LADLE_CONFIG")
    return Path(given) if given else Path(platformdirs.user_config_dir("patient-ladle"))


def service_url(given: str | None) -> str:
    """``--url``, LADLE_URL, ``url`` in config.toml, else this machine. Raises ClientError for a file that is no TOML."""
    if given or os.environ.get("LADLE_URL"):
        return (given or os.environ["LADLE_URL"]).rstrip("/")
    path = folder() / "config.toml"
    if not path.is_file():
        return DEFAULT_URL
    try:
        return str(tomllib.loads(path.read_text()).get("url", DEFAULT_URL)).rstrip("/")
    except tomllib.TOMLDecodeError as error:
        raise ClientError(f"{path} is not TOML: {error}.", 'Write: url = "http://host:port"') from error


def _tokens() -> dict[str, str]:
    path = folder() / "tokens.json"
    return dict(json.loads(path.read_text())) if path.is_file() else {}


def token_for(url: str) -> str | None:
    """LADLE_TOKEN, else the one kept for that service."""
    return os.environ.get("LADLE_TOKEN") or kept_token(url)


def kept_token(url: str) -> str | None:
    """The one that a sign-in has left here."""
    return _tokens().get(url)


def keep_token(url: str, token: str) -> Path:
    """Keep it in a file of mode 0600."""
    return _keep({**_tokens(), url: token})


def forget_token(url: str) -> Path:
    """Take it out of the file; returns the file."""
    return _keep({kept: token for kept, token in _tokens().items() if kept != url})


def _keep(tokens: dict[str, str]) -> Path:
    path = folder() / "tokens.json"
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_suffix(f".{os.getpid()}")
    descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        json.dump(tokens, file)
    part.replace(path)
    return path
