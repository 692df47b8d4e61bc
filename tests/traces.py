"""Where hostile statements of this run would leave a file, if one of them could write: a folder that every account may write."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from .janitor import MARK, traces_of

FOLDER = traces_of(os.environ[MARK])
FOLDER.mkdir(exist_ok=True)
FOLDER.chmod(0o1777)


def placed(texts: Iterable[str]) -> list[str]:
    """Statements that name ``/tmp/ladle-…``, with the run's own folder there."""
    return [text.replace("/tmp/ladle-", f"{FOLDER}/ladle-") for text in texts]


def left() -> list[Path]:
    """What was made there."""
    return [path for path in FOLDER.iterdir() if path.name.startswith("ladle-")]
