"""A private MariaDB server, for the demo's and the tests' sources."""

from __future__ import annotations

import hashlib
import shutil
import signal
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pymysql

from patient_ladle.service.processes.private_server import PrivateServer, ServerFailed

_PLAIN_IO = "--innodb-use-native-aio=0"
"""Native asynchronous input takes locked memory, of which all servers of one account share a small limit."""


def _program(name: str) -> str:
    found = shutil.which(name) or shutil.which(name, path="/usr/sbin:/usr/bin")
    if not found:
        raise ServerFailed(f"MariaDB's program '{name}' is not installed.", "Install Debian's package mariadb-server.")
    return found


class MariaServer(PrivateServer):
    """See PrivateServer. Its superuser is ``root``, with the generated password, over TCP on loopback."""

    account = "mysql"
    stop_signal = signal.SIGTERM
    made_mark = "mysql"

    @property
    def socket(self) -> Path:
        """A short path: the data directory's own may be longer than the 107 bytes that a socket's may have."""
        digest = hashlib.sha256(str(self.data).encode()).hexdigest()[:12]
        return Path(tempfile.gettempdir()) / f"ladle-{digest}.sock"

    @property
    def scratch(self) -> Path:
        """A folder of its own for temporary tables: a server that starts clears away those of every other in it."""
        folder = self.home / "scratch"
        if not folder.is_dir():
            folder.mkdir(mode=0o700)
            self._own(folder)
        return folder

    def making(self, words: Path) -> list[str]:
        command = [_program("mariadb-install-db"), "--no-defaults", f"--datadir={self.data}", f"--tmpdir={self.scratch}"]
        return [*command, "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve", _PLAIN_IO]

    def once_made(self, words: Path) -> None:
        statements = [
            f"alter user root@localhost identified by '{self.password}'",
            f"create or replace user root@'127.0.0.1' identified by '{self.password}'",
            "grant all privileges on *.* to root@'127.0.0.1' with grant option",
        ]
        words.write_text("".join(f"{statement};\n" for statement in statements))
        first = self.home / "first-start.sql"
        shutil.copy(words, first)
        first.chmod(0o600)
        self._own(first)

    def running(self) -> list[str]:
        command = [
            _program("mariadbd"),
            "--no-defaults",
            f"--datadir={self.data}",
            f"--tmpdir={self.scratch}",
            f"--port={self.port}",
        ]
        command += ["--bind-address=127.0.0.1", f"--socket={self.socket}", f"--pid-file={self.home / 'pid'}"]
        command += [
            "--skip-log-bin",
            "--skip-name-resolve",
            "--innodb-flush-log-at-trx-commit=2",
            "--innodb-buffer-pool-size=64M",
        ]
        first = self.home / "first-start.sql"
        return [*command, f"--init-file={first}"] if first.exists() else command

    def process_id(self) -> int:
        return int((self.home / "pid").read_text())

    def answers(self) -> bool:
        try:
            self.connect().close()
        except pymysql.Error:
            return False
        (self.home / "first-start.sql").unlink(missing_ok=True)
        return True

    def connect(self, database: str | None = None, **more: Any) -> pymysql.Connection[Any]:
        """A connection as superuser, or as the user given."""
        login: dict[str, Any] = {"user": "root", "password": self.password} | more
        return pymysql.connect(
            host="127.0.0.1", port=self.port, database=database, autocommit=True, connect_timeout=10, **login
        )

    def carry_out(self, statements: Sequence[str], database: str | None = None) -> None:
        """Each statement in turn, as superuser."""
        with self.connect(database) as connection, connection.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)
