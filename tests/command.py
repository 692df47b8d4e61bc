"""``ladle …`` as a process of its own, without the second in which each interpreter reads the same code: one process has
read it, and is forked for every command."""

from __future__ import annotations

import multiprocessing
import os
import subprocess
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path

from patient_ladle.cli.main import main

PATIENCE = 150
"""Seconds that a test waits for what comes in a moment on an idle machine: it fails when nothing comes, not when it is late."""
_SERVER = multiprocessing.get_context("forkserver")
_SERVER.set_forkserver_preload(["tests.command"])


def ladle(*words: str, env: Mapping[str, str], cwd: str | Path = ".", timeout: float = PATIENCE) -> subprocess.CompletedProcess:
    """The command's end, with what it printed."""
    with tempfile.TemporaryDirectory(prefix="ladle-command-") as folder:
        out, err = Path(folder, "out"), Path(folder, "err")
        process = _SERVER.Process(target=_carry_out, args=(words, dict(env), str(Path(cwd).absolute()), str(out), str(err)))
        process.start()
        process.join(timeout)
        if process.exitcode is None:
            process.kill()
            process.join()
            raise subprocess.TimeoutExpired(words, timeout)
        return subprocess.CompletedProcess(words, process.exitcode, out.read_text(), err.read_text())


def _carry_out(words: tuple[str, ...], env: dict[str, str], cwd: str, out: str, err: str) -> None:
    os.environ.clear()
    os.environ.update(env)
    os.chdir(cwd)
    for path, number in ((os.devnull, 0), (out, 1), (err, 2)):
        os.dup2(os.open(path, os.O_RDWR | os.O_CREAT, 0o600), number)
    sys.argv = ["ladle", *words]
    sys.exit(main())
