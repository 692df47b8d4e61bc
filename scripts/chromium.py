"""The browser that tests and measurements drive: Debian's Chromium without a window."""

from __future__ import annotations

import shutil
from typing import Any

SHELL = shutil.which("chromium-headless-shell")
"""Half the processor time of the whole program without a window, which is taken where this one cannot be had."""
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync"]  # fmt: skip


def launched(playwright: Any) -> Any:
    """The browser, started."""
    return playwright.chromium.launch(executable_path=SHELL or "/usr/bin/chromium", args=FLAGS)
