"""The demo's tour: starts the service, runs a full example through the command line, stops it again."""

from __future__ import annotations

import os
import re
import shlex
import signal
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

LADLE = str(Path(sys.executable).parent / "ladle")
README = Path(__file__).parents[1] / "README.md"
WHY = {
    "sign-in": "A person signs in; the token is kept in a file of its own.",
    "extract preview": "A look at a query that nobody has saved: first rows, and nothing is left of it.",
    "run start": "A run of an extract from the repository: rows fetched, written and read back, or there is no file.",
    "result verify": "The same proof at any later time, from the descriptor beside the files, without the service.",
    "run start chlorine_residual": "A run that fails: where the statement is wrong, and what to do next. Its exit status is 1.",
    "status": "How the night went, and what needs somebody.",
}
"""What each command of the README's story is for; the longest beginning counts."""
FAILS = "ladle run start chlorine_residual"
NEXT = """
That was the story that the README tells. What next:
  ./scripts/demo             the same service to keep: open the page that "ready:" names, sign in as rita
  docs/tour.md               the tour with pictures: extracts, schedules, alerts, sources
  docs/tutorial.md           a database of your own, a first workbook, a schedule, a held result
"""


def steps() -> list[str]:
    """The commands of the README's story, in their order."""
    blocks = re.findall(r"```sh\n(.*?)```", README.read_text(), re.S)
    return [line for block in blocks for line in block.splitlines() if line.startswith("ladle ")]


def _why(step: str) -> str:
    words = step.removeprefix("ladle ")
    return WHY[max((each for each in WHY if words.startswith(each)), key=len)]


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
            for step in steps():
                print(f"\n# {_why(step)}\n$ {step}", flush=True)
                words = shlex.split(step)[1:]
                status = subprocess.run([LADLE, *words], env=environment, cwd=folder, check=False).returncode
                if status != (1 if step == FAILS else 0):
                    return status or 1
            status = 0
            print(NEXT)
    finally:
        service.send_signal(signal.SIGTERM)
        service.wait(60)
    return status


if __name__ == "__main__":
    sys.exit(main())
