"""Every channel hands over the same message, says what came back, and goes only where it may."""

from __future__ import annotations

import base64
import hmac
import json
from email import message_from_string

import pytest

from patient_ladle.adapters.alerts import CHANNELS, NotSent, get_channel
from patient_ladle.adapters.alerts.base import Reach
from patient_ladle.adapters.alerts.webhook import signature
from patient_ladle.core.errors import BadInput
from patient_ladle.core.runs.alerts import Message
from patient_ladle.service.demo.mailbox import RunningMailbox

MESSAGE = Message(
    "56d1e24d6a6f44aa83e67b79723b7a33",
    "failed",
    "chlorine_residual in live:\nfailed – à corriger",
    "no such column: r.result_mgl",
    "Correct the statement.",
    "http://127.0.0.1:8470/runs/7",
    "2026-11-24T06:30:02Z",
)
HOUSE = Reach(private=True)


@pytest.fixture(scope="module")
def mailbox():
    running = RunningMailbox()
    running.start()
    yield running
    running.stop()


def settings_of(name, mailbox, **more):
    given = {
        "mail": {
            "host": "127.0.0.1", "port": mailbox.mail.port, "security": "none", "sender": "ladle@fennmoor.example",
            "to": "duty@fennmoor.example, Rita <rita@fennmoor.example>",
        },
        "webhook": {"url": f"{mailbox.url}/duty?desk=2"},
    }  # fmt: skip
    return get_channel(name).checked(given[name] | more)


@pytest.mark.parametrize("name", sorted(CHANNELS))
def test_a_message_arrives_whole(name, mailbox):
    said = get_channel(name).send(MESSAGE, settings_of(name, mailbox), "", HOUSE)
    assert said in ("accepted", "202 Accepted")
    arrived = mailbox.box.arrived[0]
    for part in (MESSAGE.id, MESSAGE.cause, MESSAGE.next_step, MESSAGE.link):
        assert part in arrived["text"]
    assert "chlorine_residual in live:" in arrived["title"]
    assert "à corriger" in arrived["title"]
    if name == "mail":
        assert arrived["to"] == "duty@fennmoor.example, rita@fennmoor.example"
        assert arrived["headers"]["Message-ID"] == f"<{MESSAGE.id}@fennmoor.example>"
        assert message_from_string(arrived["headers"]["Date"]) is not None
    else:
        assert (arrived["to"], json.loads(arrived["text"])) == ("/duty?desk=2", MESSAGE.to_dict())


def test_a_webhook_is_signed_so_that_its_receiver_can_tell(mailbox):
    get_channel("webhook").send(MESSAGE, settings_of("webhook", mailbox), "hush", HOUSE)
    arrived = mailbox.box.arrived[0]
    headers, body = arrived["headers"], arrived["text"].encode()
    assert headers["webhook-id"] == MESSAGE.id
    signed = f"{MESSAGE.id}.{headers['webhook-timestamp']}.".encode() + body
    expected = base64.b64encode(hmac.new(b"hush", signed, "sha256").digest()).decode()
    assert headers["webhook-signature"] == f"v1,{expected}"


def test_a_secret_in_base64_signs_with_what_it_holds():
    secret = "whsec_" + base64.b64encode(b"\0 of the fen").decode()
    expected = hmac.new(b"\0 of the fen", b"7.1764000000.{}", "sha256").digest()
    assert signature(secret, "7", "1764000000", b"{}") == f"v1,{base64.b64encode(expected).decode()}"
    as_it_stands = hmac.new(b"whsec_no base64", b"7.1764000000.{}", "sha256").digest()
    assert signature("whsec_no base64", "7", "1764000000", b"{}") == f"v1,{base64.b64encode(as_it_stands).decode()}"


@pytest.mark.parametrize(
    ("name", "change", "reach", "transient", "said"),
    [
        ("webhook", {"url": "{url}/busy"}, HOUSE, True, "answered 503 Service Unavailable"),
        ("webhook", {"url": "{url}/moved"}, HOUSE, False, "answered 302 Found"),
        ("webhook", {"url": "{url}/x"}, Reach(), False, "which is inside this network"),
        ("webhook", {"url": "{url}/x"}, Reach(frozenset({"alerts.fennmoor.example"}), True), False, "is not among the hosts"),
        ("webhook", {"url": "http://[::ffff:127.0.0.1]/x"}, Reach(), False, "which is inside this network"),
        ("webhook", {"url": "http://169.254.169.254/x"}, HOUSE, False, "which is link-local"),
        ("webhook", {"url": "http://nowhere.invalid/x"}, HOUSE, True, "is not known"),
        ("webhook", {"url": "http://127.0.0.1:1/x"}, HOUSE, True, "could not be used"),
        ("mail", {"port": "1"}, HOUSE, True, "could not be used"),
        ("mail", {"security": "starttls"}, HOUSE, False, "refused the login"),
        ("mail", {"user": "ladle"}, HOUSE, False, "refused the login"),
    ],
)
def test_what_does_not_arrive_says_why_and_whether_to_try_again(mailbox, name, change, reach, transient, said):
    change = {key: value.format(url=mailbox.url) if "{url}" in value else value for key, value in change.items()}
    with pytest.raises(NotSent) as failed:
        get_channel(name).send(MESSAGE, settings_of(name, mailbox, **change), "", reach)
    assert said in failed.value.message
    assert (failed.value.transient, bool(failed.value.hint)) == (transient, True)


@pytest.mark.parametrize(
    ("name", "change", "said"),
    [
        ("webhook", {"url": "ftp://a/b"}, "is not an address for alerts"),
        ("webhook", {"url": "http://user:pw@host/"}, "is not an address for alerts"),
        ("webhook", {"url": "http://host:99999/"}, "is not an address for alerts"),
        ("webhook", {"url": ""}, "the channel webhook needs 'url'"),
        ("webhook", {"adress": "x"}, "there is no setting of the channel webhook 'adress'"),
        ("mail", {"to": "nobody"}, "'nobody' is not a mail address"),
        ("mail", {"port": "smtp"}, "'smtp' is not a port"),
        ("mail", {"security": "maybe"}, "is not a way to secure mail"),
    ],
)
def test_settings_that_cannot_work_are_refused(mailbox, name, change, said):
    with pytest.raises(BadInput) as refused:
        settings_of(name, mailbox, **change)
    assert said in refused.value.message


def test_the_mailbox_shows_a_person_what_arrived(mailbox):
    mailbox.box.put("webhook", "/<b>", "<script>", "a & b", {})
    page = mailbox.box.page()
    assert "&lt;script&gt;" in page
    assert "<script>" not in page
