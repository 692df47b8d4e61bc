"""The demo's tour: starts the service, runs a full example through the command line, stops it again."""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

LADLE = str(Path(sys.executable).parent / "ladle")
STEPS = [
    "ladle sign-in rita",
    "ladle status",
    "ladle source check metering",
    "ladle extract list",
    "ladle extract show high_users",
    "ladle run start high_users --set above=4490 --formats csv,xlsx,json --into {out}",
    "ladle run start monthly_consumption --env rehearsal --set zone=Coast",
    "ladle schedule list",
    "ladle schedule next exceedances-hourly",
    "ladle run list",
    "ladle result list --extract high_users",
]


def _wait_for(service: subprocess.Popen[str], words: tuple[str, ...]) -> None:
    left = set(words)
    assert service.stdout is not None
    for line in service.stdout:
        sys.stdout.write(line)
        sys.stdout.flush()
        left -= {word for word in left if word in line}
        if not left:
            threading.Thread(target=service.stdout.read, daemon=True).start()  # keep the pipe empty
            return
    sys.exit("the service ended before it was ready.")


def main() -> int:
    """Exit status 0 when every step of the tour did what it shows."""
    service = subprocess.Popen([LADLE, "service", "start", "--demo"], stdout=subprocess.PIPE, text=True)
    status = 1
    try:
        _wait_for(service, ("ready: ", "demo sources: "))
        with tempfile.TemporaryDirectory() as folder:
            environment = os.environ | {
                "LADLE_URL": f"http://127.0.0.1:{os.environ['LADLE_PORT']}",
                "LADLE_CONFIG": f"{folder}/config",
                "LADLE_PASSWORD": "fennmoor-demo",
            }
            for step in STEPS:
                words = shlex.split(step.format(out=f"{folder}/out"))
                print(f"\n$ {' '.join(shlex.quote(word) for word in words)}", flush=True)
                status = subprocess.run([LADLE, *words[1:]], env=environment, check=False).returncode
                if status:
                    return status
    finally:
        service.send_signal(signal.SIGTERM)
        service.wait(60)
    return status


if __name__ == "__main__":
    sys.exit(main())
