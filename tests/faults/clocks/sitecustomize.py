"""On the path of a service under test: its clock goes wrong by as many seconds as a file says."""

import os
from contextlib import suppress
from datetime import timedelta
from pathlib import Path

from django.utils import timezone

_right = timezone.now


def _wrong():
    with suppress(OSError, ValueError):
        return _right() + timedelta(seconds=float(Path(os.environ["STORM_CLOCK"]).read_text()))
    return _right()


timezone.now = _wrong
