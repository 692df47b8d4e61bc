"""Builds the console before a wheel is made, so that whoever installs the wheel needs no Node."""

from __future__ import annotations

import runpy
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface


class CustomBuildHook(BuildHookInterface):
    """Hatchling calls it; an editable install has its console built by the scripts instead."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        if version != "editable":
            runpy.run_path(str(Path(self.root) / "scripts" / "console_build.py"))["ensure"]()
