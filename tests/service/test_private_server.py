"""The contract of every private database server: made once, kept, adopted, ended; under an account that may enter."""

from __future__ import annotations

import os
import shutil
import signal
import tempfile
from pathlib import Path

import psycopg
import pymysql
import pytest

from patient_ladle.service.demo.maria_server import MariaServer
from patient_ladle.service.processes.cluster import Cluster
from patient_ladle.service.processes.private_server import ELSEWHERE, ServerFailed, free_port
from tests.conftest import until


class _Postgres:
    made = Cluster

    @staticmethod
    def write(server):
        server.make_database("kept")
        with psycopg.connect(server.url("kept")) as connection:
            connection.execute("create table t as select 7 as a")

    @staticmethod
    def read(server):
        with psycopg.connect(server.url("kept")) as connection:
            return connection.execute("select a from t").fetchone()[0]

    @staticmethod
    def refuses(server, password):
        with pytest.raises(psycopg.Error, match="password"):
            psycopg.connect(server.url("postgres", password=password))


class _Maria:
    made = MariaServer

    @staticmethod
    def write(server):
        server.carry_out(["create database kept", "create table kept.t as select 7 as a"])

    @staticmethod
    def read(server):
        with server.connect("kept") as connection, connection.cursor() as cursor:
            cursor.execute("select a from t")
            return cursor.fetchone()[0]

    @staticmethod
    def refuses(server, password):
        with pytest.raises(pymysql.Error, match="Access denied"):
            server.connect(password=password)


@pytest.fixture(params=[_Postgres, _Maria], ids=["postgresql", "mariadb"])
def kind(request):
    return request.param


@pytest.fixture
def place():
    """A folder of mode 0755 that a test may fill."""
    folder = Path(tempfile.mkdtemp(prefix="ladle-server-"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


def test_a_server_is_made_once_keeps_its_data_and_its_port_and_its_password(kind, place):
    server = kind.made(place, "one")
    server.start()
    kind.write(server)
    kind.refuses(server, "")
    kind.refuses(server, "wrong")
    port = server.port
    server.stop()
    assert server.left_behind() == 0
    assert os.stat(place / "keys" / "one.password").st_mode & 0o777 == 0o600
    again = kind.made(place, "one")
    again.start()
    try:
        assert (kind.read(again), again.port) == (7, port)
        assert server.password not in Path(f"/proc/{again.process.pid}/cmdline").read_text()
    finally:
        again.stop()


def test_a_server_that_was_left_behind_is_ended_cleanly_and_started_anew(kind, place):
    left = kind.made(place, "left")
    left.start()
    kind.write(left)
    pid = left.left_behind()
    again = kind.made(place, "left")
    again.start()
    try:
        assert again.left_behind() not in (0, pid)
        assert kind.read(again) == 7
        left.process.wait(10)
    finally:
        again.stop()


def test_a_server_that_was_killed_comes_back_with_what_was_committed(kind, place):
    server = kind.made(place, "killed")
    server.start()
    kind.write(server)
    os.kill(server.left_behind(), signal.SIGKILL)
    server.process.wait(10)
    until(lambda: server.left_behind() == 0)
    again = kind.made(place, "killed")
    again.start()
    try:
        assert kind.read(again) == 7
    finally:
        again.stop()


def test_a_folder_that_cannot_be_used_is_named(kind, place):
    server = kind.made(place, "blocked")
    server.home.mkdir()
    (server.home / "data").write_text("a file, no folder")
    server.home = server.home / "data" / "below"
    server.data = server.home / "data"
    with pytest.raises((ServerFailed, OSError)) as refused:
        server.start()
    assert str(server.home.parent) in str(refused.value)


def everything_in(folder):
    return sorted(str(path) for path in folder.rglob("*"))


def test_a_database_that_has_lost_its_mark_is_never_taken_for_none(kind, place):
    server = kind.made(place, "one")
    server.start()
    kind.write(server)
    server.stop()
    mark = server.data / kind.made.made_mark
    aside = place / "aside"
    mark.rename(aside)
    before = everything_in(server.home)
    for _ in range(2):
        with pytest.raises(ServerFailed, match="holds files and no whole database") as refused:
            kind.made(place, "one").start()
        assert "Restore it from its backup" in refused.value.hint
        assert everything_in(server.home) == before
    aside.rename(mark)
    again = kind.made(place, "one")
    again.start()
    try:
        assert kind.read(again) == 7
    finally:
        again.stop()


def test_one_whose_making_was_broken_off_is_put_aside_and_made_anew(kind, place):
    server = kind.made(place, "one")
    server.data.mkdir(parents=True)
    (server.home / "being-made").touch()
    (server.data / kind.made.made_mark).mkdir()
    server.start()
    try:
        kind.write(server)
        assert kind.read(server) == 7
    finally:
        server.stop()
    [aside] = place.glob("one.unfinished-*")
    assert (aside / "data" / kind.made.made_mark).is_dir()
    assert not (server.home / "being-made").exists()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root's servers run under another account")
def test_a_changed_folder_right_is_said_and_makes_no_other_database(kind, place):
    server = kind.made(place, "one")
    server.start()
    kind.write(server)
    server.stop()
    place.chmod(0o700)
    shut = kind.made(place, "one")
    assert shut.home == server.home
    with pytest.raises(ServerFailed, match=r"cannot enter .*ladle-server") as refused:
        shut.start()
    assert "chmod o+x" in refused.value.hint
    place.chmod(0o711)
    again = kind.made(place, "one")
    again.start()
    try:
        assert kind.read(again) == 7
    finally:
        again.stop()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root's servers run under another account")
def test_a_moved_data_directory_finds_its_database_and_says_when_that_is_gone(place):
    closed, moved = place / "closed", place / "moved"
    closed.mkdir(mode=0o700)
    server = Cluster(closed, "away")
    server.start()
    _Postgres.write(server)
    server.stop()
    closed.rename(moved)
    again = Cluster(moved, "away")
    assert again.home == server.home
    again.start()
    try:
        assert _Postgres.read(again) == 7
    finally:
        again.stop()
    shutil.rmtree(server.home.parent)
    with pytest.raises(ServerFailed, match="is not there") as gone:
        Cluster(moved, "away")
    assert "restore its backup" in gone.value.hint


@pytest.mark.skipif(os.geteuid() != 0, reason="only root's servers run under another account")
def test_roots_server_lies_elsewhere_when_its_account_could_not_enter(place):
    closed = place / "closed"
    closed.mkdir(mode=0o700)
    server = Cluster(closed, "away")
    assert server.home.is_relative_to(ELSEWHERE)
    assert (closed / "away-is-elsewhere.txt").read_text().strip() == str(server.home)
    server.start()
    try:
        assert Path(f"/proc/{server.left_behind()}").stat().st_uid != 0
    finally:
        server.stop()
        shutil.rmtree(server.home.parent)


def test_a_port_that_is_taken_is_not_given_out():
    taken = free_port()
    assert free_port(taken) == taken
    import socket

    with socket.create_server(("127.0.0.1", taken)):
        assert free_port(taken) != taken
