"""What the product is installed with: bounded from above, exact where names are used that a package keeps to itself, licensed."""

from __future__ import annotations

import importlib.util
import re
import tomllib
from importlib.metadata import version
from inspect import getsource, signature
from pathlib import Path

import pymysql
import pymysql.connections
import pytest
from django.db.models.base import ModelState
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
    for package in ("pymysql", "pymongo", "djangorestframework"):
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
