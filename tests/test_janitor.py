"""What tests started is gone when they are, also when they are ended by force."""

from __future__ import annotations

import os
import signal
import subprocess
import sys

from tests.conftest import until
from tests.janitor import MARK, marked

SCRIPT = """
import os, subprocess, sys, time
from tests.janitor import MARK, watch
watch()
subprocess.Popen(["sleep", "100000"], start_new_session=True)
print(os.environ[MARK], flush=True)
time.sleep(100000)
"""


def test_processes_end_with_the_tests_that_started_them():
    environment = {key: value for key, value in os.environ.items() if key != MARK}
    with subprocess.Popen([sys.executable, "-c", SCRIPT], env=environment, stdout=subprocess.PIPE, text=True) as tests:
        mark = tests.stdout.readline().strip()
        until(lambda: len(marked(mark)) == 1)
        tests.send_signal(signal.SIGKILL)
    until(lambda: not marked(mark))
