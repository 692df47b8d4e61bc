"""What the product is installed with: bounded from above, exact where names are used that a package keeps to itself, licensed."""

from __future__ import annotations

import ast
import importlib.util
import re
import sys
import tomllib
from importlib.metadata import packages_distributions, requires, version
from inspect import getsource, signature
from pathlib import Path

import pymysql
import pymysql.connections
import pytest
from django.db.models.base import ModelState
from packaging.requirements import Requirement
from pymongo import MongoClient
from pymongo.synchronous.pool import Pool
from pymongo.synchronous.topology import Topology
from rest_framework.request import Request
from rest_framework.serializers import SerializerMetaclass

ROOT = Path(__file__).resolve().parent.parent
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
REQUIRED = [*PROJECT["dependencies"], *(each for extra in PROJECT["optional-dependencies"].values() for each in extra)]
PINNED = {
    name.lower(): pin
    for part in ("service", "bucket", "demo")
    for name, pin in re.findall(r"^([\w.-]+)==([\w.]+)$", (ROOT / f"requirements/{part}.txt").read_text(), re.M)
}
METHODS = ("_execute_command", "_read_packet", "_force_close")
ATTRIBUTES = ("_sock", "_result", "_next_seq_id", "_rfile", "_read_timeout")
"""Set when a connection is made; the source of the driver has them."""


def bounds(requirement):
    return re.fullmatch(r"([\w.-]+)(?:\[[\w,]+\])?(.*)", requirement).groups()


@pytest.mark.parametrize("requirement", REQUIRED)
def test_every_dependency_is_bounded_from_above_and_its_pin_lies_within(requirement):
    name, rest = bounds(requirement)
    assert "==" in rest or "<" in rest
    pin = PINNED[name.lower()]
    numbers = tuple(int(each) for each in re.findall(r"\d+", pin)[:2])
    for sign, wanted in re.findall(r"(==|>=|<)([\d.]+)", rest):
        other = tuple(int(each) for each in wanted.split(".")[:2])
        assert {"==": pin == wanted, ">=": numbers >= other, "<": numbers < other}[sign], (requirement, pin)


def test_names_that_a_package_keeps_to_itself_are_there_and_its_version_is_exact():
    required = dict(bounds(each) for each in REQUIRED)
    for package in ("pymysql", "pymongo", "djangorestframework", "waitress", "duckdb"):
        assert required[package] == f"=={version(package)}"
    assert [name for name in METHODS if not hasattr(pymysql.connections.Connection, name)] == []
    source = Path(pymysql.connections.__file__).read_text()
    assert [name for name in ATTRIBUTES if f"self.{name}" not in source] == []
    assert "interrupt_connections" in signature(Pool.reset).parameters
    assert "self._servers" in getsource(Topology)
    assert "self._topology" in getsource(MongoClient)
    assert "_request" in Request.__init__.__code__.co_names
    assert "_declared_fields" in SerializerMetaclass.__new__.__code__.co_consts
    assert hasattr(ModelState(), "adding")


def test_the_licences_are_listed_as_the_packages_say_them():
    spec = importlib.util.spec_from_file_location("licences", ROOT / "scripts/licences.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    assert (ROOT / "docs/licences.md").read_text() == module.made(), "scripts/licences.py > docs/licences.md"
    assert "see its files" not in module.made()


PACKAGES = packages_distributions()


def imported(path):
    """Names of what a module imports from outside, at any depth of it, by their first part."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (name.name.partition(".")[0] for name in node.names)
        elif isinstance(node, ast.ImportFrom) and node.level == 0:
            yield node.module.partition(".")[0]


def declared_for(path):
    """Packages that may be asked for there, as pyproject declares them: a laptop has no service."""
    extras = {"client": (), "cli": (), "words.py": (), "proof": ("service",)}.get(path.parts[0], ("service",))
    extras += ("bucket",) if path.match("adapters/stores/*") else ("demo",) if path.parts[:2] == ("service", "demo") else ()
    asked = [*PROJECT["dependencies"], *(each for extra in extras for each in PROJECT["optional-dependencies"][extra])]
    names = {bounds(each)[0].lower().replace("_", "-") for each in asked}
    return names | {f"{Requirement(each).name}-{extra}" for each in asked for extra in Requirement(each).extras}


def test_every_import_is_of_what_is_declared():
    source, missing = ROOT / "src" / "patient_ladle", {}
    for path in source.rglob("*.py"):
        for name in {*imported(path)} - sys.stdlib_module_names - {"patient_ladle"}:
            brought = {each.lower().replace("_", "-") for each in PACKAGES.get(name, ())}
            if not brought & declared_for(path.relative_to(source)):
                missing.setdefault(name, []).append(str(path.relative_to(source)))
    assert missing == {}


@pytest.mark.parametrize(
    "parts", [("service",), ("service", "demo"), ("service", "bucket"), ("service", "demo", "bucket", "development")]
)
def test_what_is_pinned_together_goes_together(parts):
    """Every package that a pinned one asks for is pinned too, to a version that it takes."""
    pins = {
        re.sub(r"[-_.]+", "-", name).lower(): pin
        for part in parts
        for name, pin in re.findall(r"^([\w.-]+)==([\w.]+)$", (ROOT / f"requirements/{part}.txt").read_text(), re.M)
    }
    wrong = []
    for name, pin in pins.items():
        assert version(name) == pin, "the environment is another: ./scripts/test brings it up to date"
        for text in requires(name) or ():
            wanted = Requirement(text)
            if not wanted.marker or wanted.marker.evaluate({"extra": ""}):
                found = pins.get(re.sub(r"[-_.]+", "-", wanted.name).lower())
                if found is None or not wanted.specifier.contains(found, prereleases=True):
                    wrong.append(f"{name} {pin} asks for {text}, and {found} is pinned")
    assert wrong == []


def test_a_package_has_one_pin():
    pins = {}
    for path in (ROOT / "requirements").glob("*.txt"):
        for name, pin in re.findall(r"^([\w.-]+)==([\w.]+)$", path.read_text(), re.M):
            pins.setdefault(re.sub(r"[-_.]+", "-", name).lower(), set()).add(pin)
    assert {name: found for name, found in pins.items() if len(found) > 1} == {}
