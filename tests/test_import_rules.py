"""Members of a family do not know each other: asked of whatever its registry has, so that no list of them stands elsewhere."""

from __future__ import annotations

import subprocess
import sys
from itertools import permutations

import grimp
import pytest

from patient_ladle.adapters.alerts import CHANNELS
from patient_ladle.adapters.deliveries import KINDS
from patient_ladle.adapters.sources import ENGINES
from patient_ladle.core.files.formats import FORMATS
from patient_ladle.core.statements.languages import LANGUAGES


def module_of(member):
    """Where the member is made: of an instance whose class others share, the module that holds it."""
    home = type(member).__module__
    held = [name for name, module in list(sys.modules.items())
            if name.startswith("patient_ladle.core.statements.languages.") and member in vars(module).values()]  # fmt: skip
    return min(held, key=len) if held else home


@pytest.fixture(scope="module")
def graph():
    """Without the registries, which know every member."""
    made = grimp.build_graph("patient_ladle")
    for family in FAMILIES.values():
        for registry in {module_of(member).rpartition(".")[0] for member in family.values()}:
            for imported in made.find_modules_directly_imported_by(registry):
                made.remove_import(importer=registry, imported=imported)
    return made


FAMILIES = {"formats": FORMATS, "engines": ENGINES, "languages": LANGUAGES, "targets": KINDS, "channels": CHANNELS}


@pytest.mark.parametrize("family", FAMILIES)
def test_members_of_a_family_do_not_know_each_other(graph, family):
    modules = sorted({module_of(member) for member in FAMILIES[family].values()})
    assert len(modules) > 1 or family == "targets"
    for one, other in permutations(modules, 2):
        chain = graph.find_shortest_chain(importer=one, imported=other)
        assert chain is None, f"{one} knows {other}: {' -> '.join(chain or ())}"


@pytest.mark.parametrize("module", ["patient_ladle.service.children.child", "patient_ladle.adapters.sources"])
def test_what_only_some_runs_need_is_not_read_by_every_child(module):
    """A driver and a parser of some hundred modules: a quarter of a child's start, and of its memory."""
    asked = f"import sys, {module}; print(sorted({{'pymongo', 'bson', 'sqlglot'}} & set(sys.modules)))"
    assert subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, check=True).stdout == "[]\n"


def test_a_module_that_is_read_later_is_the_one_that_it_names():
    from patient_ladle.lazily import lazily

    later = lazily("html.entities")
    assert "name2codepoint" not in later.__dict__
    assert later.name2codepoint["eacute"] == 233
    assert "name2codepoint" in later.__dict__
    with pytest.raises(AttributeError, match="no attribute 'nowhere'"):
        later.nowhere  # noqa: B018  # asking is the test
