"""Encrypted connections against real servers with a certificate of our own."""

from __future__ import annotations

import ipaddress
import os
import pwd
from datetime import datetime, timedelta, timezone

import psycopg
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.ports import Statement
from patient_ladle.service.demo.maria_server import MariaServer


def certificate(folder, name, account=None):
    """A self-signed certificate for 127.0.0.1 and its key, readable by the account that runs the server."""
    key = ec.generate_private_key(ec.SECP256R1())
    who = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, f"Fennmoor Water {name}")])
    now = datetime.now(timezone.utc)
    made = (
        x509.CertificateBuilder()
        .subject_name(who)
        .issuer_name(who)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=2))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    private = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    paths = folder / f"{name}.crt", folder / f"{name}.key"
    for path, data in zip(paths, (made.public_bytes(serialization.Encoding.PEM), private), strict=True):
        path.write_bytes(data)
        path.chmod(0o644 if path.suffix == ".crt" else 0o600)
        if account and os.geteuid() == 0:
            os.chown(path, pwd.getpwnam(account).pw_uid, pwd.getpwnam(account).pw_gid)
    return paths


class EncryptedMaria(MariaServer):
    """A server that offers encryption."""

    def running(self):
        return [*super().running(), f"--ssl-cert={self.home / 'server.crt'}", f"--ssl-key={self.home / 'server.key'}"]


@pytest.fixture(scope="module")
def encrypted(home, cluster, metering):
    """Addresses of both servers, and the file of each one's authority."""
    certificate(cluster.data, "server", "postgres")
    with psycopg.connect(cluster.url(), autocommit=True) as connection:
        connection.execute("alter system set ssl = on")
        connection.execute("select pg_reload_conf()")
    maria = EncryptedMaria(home / "encrypted", "works")
    maria.make()
    certificate(maria.home, "server", "mysql")
    maria.start()
    maria.carry_out(
        [
            "create database works",
            "create user reader identified by 'reading-only' require ssl",
            "grant select on works.* to reader",
        ]
    )
    works = {"host": "127.0.0.1", "port": maria.port, "database": "works", "user": "reader"}
    yield {"postgresql": (metering, cluster.data / "server.crt"), "mariadb": (works, maria.home / "server.crt")}
    maria.stop()
    with psycopg.connect(cluster.url(), autocommit=True) as connection:
        connection.execute("alter system reset ssl")
        connection.execute("select pg_reload_conf()")


PERMITTED = ["pg_stat_ssl", "pg_backend_pid", "information_schema.session_status"]
ENCRYPTED = {
    "postgresql": "select ssl::text from pg_stat_ssl where pid = pg_backend_pid()",
    "mariadb": "select variable_value <> '' from information_schema.session_status where variable_name = 'Ssl_cipher'",
}


def authority(home, path):
    """A copy of the certificate that the service's own account can read."""
    copy = home / f"authority-{path.parent.name}.crt"
    copy.write_bytes(path.read_bytes())
    return str(copy)


@pytest.mark.parametrize("engine", sorted(ENCRYPTED))
@pytest.mark.parametrize("mode", ["require", "verify-full"])
def test_a_connection_is_encrypted_and_its_certificate_verified(encrypted, home, engine, mode):
    address, path = encrypted[engine]
    more = {"ssl_mode": mode} | ({"ssl_ca": authority(home, path)} if mode == "verify-full" else {})
    session = get_engine(engine).open(address | more | {"permitted": PERMITTED}, "reading-only")
    session.describe(Statement(ENCRYPTED[engine]))
    [batch] = session.batches()
    session.close()
    assert batch.cells[0].to_pylist() in (["true"], ["1"])


@pytest.mark.parametrize("engine", sorted(ENCRYPTED))
def test_a_certificate_of_another_authority_stops_the_check_at_encryption(encrypted, home, engine):
    address, _ = encrypted[engine]
    other, _ = certificate(home, "other")
    last = get_engine(engine).check(address | {"ssl_mode": "verify-full", "ssl_ca": str(other)}, "reading-only", 5)[-1]
    assert (last.step, last.passed, "certificates" in last.hint) == ("encryption", False, True)
    assert "certificate" in last.detail


def test_a_login_that_must_be_encrypted_is_refused_without(encrypted):
    address, _ = encrypted["mariadb"]
    last = get_engine("mariadb").check(address | {"ssl_mode": "disable"}, "reading-only", 5)[-1]
    assert (last.step, last.passed, bool(last.hint)) == ("login", False, True)
    assert get_engine("mariadb").check(address, "reading-only", 5)[-1].passed
