"""Alerts by e-mail (RFC 5321, RFC 5322)."""

from __future__ import annotations

import smtplib
import ssl
from collections.abc import Mapping
from datetime import datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import format_datetime, getaddresses
from typing import Any, ClassVar

from patient_ladle.adapters.reach import Reached, connect
from patient_ladle.core.errors import BadInput
from patient_ladle.core.runs.alerts import Message

from .base import SECONDS, Channel, NotSent, NotTaken, Reach, Setting, checked_way

_SECURITY = ("starttls", "tls", "none")


class SmtpChannel(Channel):
    """See Channel."""

    name = "mail"
    note = "e-mail through a mail server"
    key_note = "the password of user"
    settings: ClassVar[Mapping[str, Setting]] = {
        "host": Setting("the mail server", required=True),
        "port": Setting("its port", default="587"),
        "security": Setting("starttls, tls or none", default="starttls"),
        "user": Setting("whom to sign in as; empty: without a login"),
        "sender": Setting("the address that mails come from", required=True),
        "to": Setting("addresses, separated by commas", required=True),
    }

    def check(self, settings: Mapping[str, str]) -> None:
        if settings["security"] not in _SECURITY:
            raise BadInput(f"'{settings['security']}' is not a way to secure mail.", f"Take {', '.join(_SECURITY)}.")
        if not (settings["port"].isascii() and settings["port"].isdigit()) or not 0 < int(settings["port"]) < 65_536:
            raise BadInput(f"'{settings['port']}' is not a port.", "Give a number such as 587.")
        for text in (settings["sender"], settings["to"]):
            _addresses(text)

    def way(self, settings: Mapping[str, str], reach: Reach) -> Reached:
        # A mail server stands inside the house more often than not.
        return checked_way(settings["host"], int(settings["port"]), Reach(private=True))

    def send(self, message: Message, settings: Mapping[str, str], secret: str, reach: Reach) -> str:
        mail = _mail(message, settings)
        host, port = settings["host"], int(settings["port"])
        try:
            way = self.way(settings, reach)
            with _Server(way, port, settings["security"] == "tls") as server:
                if settings["security"] == "starttls":
                    server.starttls(context=ssl.create_default_context())
                if settings["user"]:
                    server.login(settings["user"], secret)
                refused = server.send_message(mail)
        except smtplib.SMTPRecipientsRefused as error:
            raise NotTaken(f"the mail server refused every address: {_said(error)}.", "Correct the addresses.") from error
        except (smtplib.SMTPAuthenticationError, smtplib.SMTPNotSupportedError) as error:
            raise NotTaken(f"the mail server refused the login: {_said(error)}.", "Correct user and password.") from error
        except smtplib.SMTPResponseException as error:
            words = f"the mail server said: {_said(error)}."
            raise (NotTaken if error.smtp_code >= 500 else NotSent)(words, "Look into the mail server's log.") from error
        except (OSError, smtplib.SMTPException) as error:
            raise NotSent(f"{host}:{port} could not be used: {_said(error)}.", "Check host, port and security.") from error
        return "accepted" if not refused else f"accepted, but not for {', '.join(refused)}"


class _Server(smtplib.SMTP):
    """At an address that was judged, under the host's name."""

    def __init__(self, way: Reached, port: int, tls: bool) -> None:
        self.way, self.tls = way, tls
        super().__init__(way.host, port, timeout=SECONDS)

    def _get_socket(self, host: str, port: int, timeout: float) -> Any:
        plain = connect(self.way, port, timeout)
        return ssl.create_default_context().wrap_socket(plain, server_hostname=host) if self.tls else plain


def check_address(text: str) -> None:
    """One address, and no more. Raises BadInput."""
    if len(_addresses(text)) != 1:
        raise BadInput(f"'{text}' is more than one address.", "Give one.")


def _addresses(text: str) -> list[str]:
    found = [address for _, address in getaddresses([text]) if address]
    for address in found:
        name, at, domain = address.partition("@")
        if not (name and at and domain) or any(sign.isspace() for sign in address):
            raise BadInput(f"'{address}' is not a mail address.", "Write it as in rita@fennmoor.example.")
    if not found:
        raise BadInput(f"'{text}' holds no mail address.", "Write it as in rita@fennmoor.example.")
    return found


def _said(error: Exception) -> str:
    words = getattr(error, "smtp_error", None) or getattr(error, "strerror", None) or str(error)
    return " ".join((words.decode(errors="replace") if isinstance(words, bytes) else str(words)).split())


def _mail(message: Message, settings: Mapping[str, str]) -> EmailMessage:
    mail = EmailMessage()
    sender = _addresses(settings["sender"])[0]
    mail["Subject"] = " ".join(message.title.split())
    mail["From"] = Address("Patient Ladle", addr_spec=sender)
    mail["To"] = ", ".join(_addresses(settings["to"]))
    mail["Date"] = format_datetime(datetime.fromisoformat(message.at))
    mail["Message-ID"] = f"<{message.id}@{sender.partition('@')[2]}>"
    mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(message.as_text())
    return mail
