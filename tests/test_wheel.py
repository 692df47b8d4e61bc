"""The wheel alone: what pip would install from it starts, serves its console, and lets somebody in."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import venv
from importlib.metadata import Distribution, distribution
from pathlib import Path
from zipfile import ZipFile

import httpx
import pytest
from packaging.requirements import Requirement

from patient_ladle.client import Ladle
from tests.conftest import ADMINISTRATOR, first_password, start_service, stop_service

ROOT = Path(__file__).parents[1]


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    folder = tmp_path_factory.mktemp("wheel")
    words = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)]
    subprocess.run(words, cwd=ROOT, check=True, stdout=subprocess.DEVNULL)
    [made] = folder.glob("*.whl")
    return made


def asked_for(requirements, extras=()):
    """Distributions that these requirements bring here, and those bring in turn."""
    found, left = {}, [(each, tuple(extras)) for each in requirements]
    while left:
        text, of = left.pop()
        wanted = Requirement(text)
        if wanted.marker and not any(wanted.marker.evaluate({"extra": extra}) for extra in (*of, "")):
            continue
        key = (re.sub(r"[-_.]+", "-", wanted.name).lower(), frozenset(wanted.extras))
        if key not in found:
            found[key] = distribution(wanted.name)
            left += [(each, tuple(wanted.extras)) for each in found[key].requires or ()]
    return list({name: made for (name, _), made in found.items()}.values())


@pytest.fixture(scope="module")
def installed(wheel, tmp_path_factory):
    """A Python that has the wheel, its declared dependencies with the extra ``service``, and nothing else."""
    folder = tmp_path_factory.mktemp("installed")
    venv.create(folder, symlinks=True)
    [packages] = folder.glob("lib/python*/site-packages")
    with ZipFile(wheel) as archive:
        archive.extractall(packages)
    [about] = packages.glob("patient_ladle-*.dist-info")
    for made in asked_for(Distribution.at(about).requires, ["service"]):
        for top in {Path(file).parts[0] for file in made.files if Path(file).parts[0] not in ("..", "__pycache__")}:
            if not (packages / top).exists():
                (packages / top).symlink_to(made.locate_file(top))
    return folder / "bin" / "python"


def test_what_is_installed_from_the_wheel_alone_starts_and_lets_somebody_in(installed, home):
    environment = {"PYTHONPATH": "", "PYTHONNOUSERSITE": "1"}
    where = "import patient_ladle, pathlib; print(pathlib.Path(patient_ladle.__file__).parents[1])"
    at = subprocess.run(
        [installed, "-c", where], env=os.environ | environment, capture_output=True, text=True, check=True, cwd="/"
    )
    assert Path(at.stdout.strip()).is_relative_to(installed.parents[1])
    service = start_service(home / "from-the-wheel", python=str(installed), **environment)
    try:
        with Ladle.sign_in(service.url, ADMINISTRATOR, first_password(service.data))[0] as ladle:
            assert ladle.status()
        assert '<div id="root">' in httpx.get(service.url).text
    finally:
        stop_service(service)


@pytest.mark.long  # it fetches everything
def test_pip_installs_it_into_an_empty_environment_and_finds_nothing_wrong(wheel, tmp_path):
    venv.create(tmp_path / "empty", with_pip=True)
    python = tmp_path / "empty" / "bin" / "python"
    for extra in ("service", "service,demo,bucket"):
        subprocess.run([python, "-m", "pip", "install", "-qq", f"{wheel}[{extra}]"], check=True)
        subprocess.run([python, "-m", "pip", "check"], check=True)
        for words in (["--version"], ["service", "start", "--help"]):
            subprocess.run([python, "-m", "patient_ladle.cli.main", *words], check=True, env=os.environ | {"PYTHONPATH": ""})
