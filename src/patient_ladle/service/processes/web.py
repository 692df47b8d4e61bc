"""The web: one socket, and processes that serve it with threads of their own; the application is loaded once, before them."""

from __future__ import annotations

import gc
import logging
import os
import signal
import socket
import threading
import time
from collections.abc import Callable

from .http_server import STOP_SECONDS, WebServer
from .parent import end_with_parent
from .private_server import ServerFailed

log = logging.getLogger("ladle.web")

PROCESSES = 2
BACKLOG = 2_048
AGAIN_SECONDS = 1.0
"""Between the end of a process that should not have ended and the next one in its place."""


def listening_on(listen: str, port: int) -> socket.socket:
    """A socket that takes connections there. Raises ServerFailed."""
    [(family, kind, number, _, address), *_] = socket.getaddrinfo(
        listen, port, type=socket.SOCK_STREAM, flags=socket.AI_PASSIVE
    )
    made = socket.socket(family, kind, number)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        made.bind(address)
        made.listen(BACKLOG)
    except OSError as error:
        made.close()
        raise ServerFailed(
            f"the service cannot listen at {listen}:{port}: {error.strerror}.",
            "Stop what listens there, or set LADLE_PORT to a free port.",
        ) from error
    made.setblocking(False)
    return made


def _serve(listening: socket.socket, alive: int) -> None:
    """One process: until it is asked to stop, or the one that started it has gone."""
    from patient_ladle.service.ledger.pulses import watch as watch_pulses
    from patient_ladle.service.sources.interactive import keep_warm
    from patient_ladle.service.wsgi import application

    server = WebServer(application, listening)
    signal.signal(signal.SIGTERM, server.stop)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the whole group hears it; the first process says what to do

    def watch() -> None:
        os.read(alive, 1)
        os.kill(os.getpid(), signal.SIGTERM)

    threading.Thread(target=watch, daemon=True).start()
    over = threading.Event()
    pulses = threading.Thread(target=watch_pulses, args=(over,), daemon=True)
    pulses.start()
    keep_warm()
    server.serve()
    over.set()


class _Processes:
    """Keeps so many processes up."""

    def __init__(self, work: Callable[[int], None]) -> None:
        self.work = work
        self.running: set[int] = set()
        self.stopping = False
        self.alive, self.mine = os.pipe()

    def start(self) -> None:
        number = os.fork()
        if number:
            self.running.add(number)
            return
        status = 1
        try:
            signal.signal(signal.SIGTERM, signal.SIG_DFL)
            os.close(self.mine)
            self.work(self.alive)
            status = 0
        except Exception:
            log.exception("a web process met a fault")
        finally:
            os._exit(status)

    def stop(self, *_: object) -> None:
        self.stopping = True
        for number in self.running:
            os.kill(number, signal.SIGTERM)

    def mind(self) -> None:
        """Until stopped and all have ended."""
        asked_at = 0.0
        while self.running:
            ended, status = os.waitpid(-1, os.WNOHANG)
            if ended:
                self.running.discard(ended)
                if not self.stopping:
                    log.warning("web process %s ended with status %s; another takes its place", ended, status)
                    time.sleep(AGAIN_SECONDS)
                    self.start()
                continue
            if self.stopping:
                asked_at = asked_at or time.monotonic()
                if time.monotonic() - asked_at > STOP_SECONDS + 3:
                    for number in self.running:
                        os.kill(number, signal.SIGKILL)
            time.sleep(0.1)


def main(listen: str, port: int) -> None:
    """Serve until asked to stop."""
    end_with_parent()
    from patient_ladle.service.wsgi import application

    assert application is not None  # loaded once; connections are opened after the fork
    listening = listening_on(listen, port)
    gc.collect()
    gc.freeze()
    processes = _Processes(lambda alive: _serve(listening, alive))
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, processes.stop)
    for _ in range(PROCESSES):
        processes.start()
    processes.mind()
