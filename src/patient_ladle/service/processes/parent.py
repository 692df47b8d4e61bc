"""A process of the service ends when its parent does, however that died: it watches a pipe from it."""

from __future__ import annotations

import os
import signal
import threading


def end_with_parent() -> None:
    """Ask this process to stop (SIGTERM) at the end of standard input. Call it in children of the supervisor."""

    def watch() -> None:
        while os.read(0, 64):  # not sys.stdin: its lock would be held at exit
            continue
        os.kill(os.getpid(), signal.SIGTERM)

    threading.Thread(target=watch, daemon=True).start()
