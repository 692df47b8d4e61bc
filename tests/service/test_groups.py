"""Groups of people: what role somebody has, whatever happened in whatever order; over HTTP and on the command line."""

from __future__ import annotations

import random
import threading
from functools import partial

import pytest

from patient_ladle.client import CallFailed
from tests.command import PATIENCE
from tests.conftest import PASSWORD, until

ROLES = ("reader", "runner", "author", "administrator")


class Slowly:
    """The same by hand: dictionaries, everything reckoned anew each time."""

    def __init__(self):
        self.own, self.active, self.groups = {}, {}, {}

    def role(self, name):
        return max([self.own[name], *(role for role, members in self.groups.values() if name in members)], key=ROLES.index)

    def governed(self):
        return any(self.active[name] and self.role(name) == "administrator" for name in self.own)


@pytest.mark.parametrize("seed", range(6))
def test_roles_are_the_widest_of_ones_own_and_the_groups_whatever_was_done(orm, seed):
    from django.db import transaction

    from patient_ladle.core.errors import Conflict
    from patient_ladle.service.people import groups, services
    from patient_ladle.service.people.models import Person

    chance, slowly, refused = random.Random(seed), Slowly(), 0
    with transaction.atomic():
        Person.objects.update(is_active=False)
        names = [f"crew-{n}" for n in range(5)]
        for name in names:
            slowly.own[name], slowly.active[name] = "administrator" if name == "crew-0" else chance.choice(ROLES), True
            Person.objects.create(name=name, own_role=slowly.own[name], role=slowly.own[name])
        for _ in range(60):
            some, role = chance.sample(names, chance.randrange(4)), chance.choice(ROLES)
            group, name = chance.choice("abc"), chance.choice(names)
            before = (dict(slowly.own), dict(slowly.active), dict(slowly.groups))
            match chance.choice(("own", "active", "set", "set", "members", "remove")):
                case "own":
                    slowly.own[name] = role
                    change = partial(services.edit_person, name, {"role": role})
                case "active":
                    slowly.active[name] = not slowly.active[name]
                    change = partial(services.edit_person, name, {"active": slowly.active[name]})
                case "set":
                    add = groups.edit_group if group in slowly.groups else groups.add_group
                    slowly.groups[group] = (role, set(some))
                    change = partial(add, group, role=role, members=some)
                case "members" if group in slowly.groups:
                    slowly.groups[group] = (slowly.groups[group][0], set(some))
                    change = partial(groups.edit_group, group, members=some)
                case "remove" if group in slowly.groups:
                    del slowly.groups[group]
                    change = partial(groups.remove_group, group)
                case _:
                    continue
            if slowly.governed():
                change()
            else:
                with pytest.raises(Conflict, match="without an administrator"):
                    change()
                slowly.own, slowly.active, slowly.groups = before
                refused += 1
            there = {each.name: (each.role, each.own_role) for each in Person.objects.filter(name__in=names)}
            assert there == {name: (slowly.role(name), slowly.own[name]) for name in names}
        transaction.set_rollback(True)
    assert refused > 0


def test_of_two_last_administrators_who_step_down_at_once_one_stays(orm):
    from django.db import connection, connections, transaction

    from patient_ladle.core.errors import Conflict
    from patient_ladle.service.people import groups, services
    from patient_ladle.service.people.models import Person

    assert not Person.objects.filter(role="administrator").exists()
    Person.objects.bulk_create(Person(name=f"last-{n}", own_role="administrator", role="administrator") for n in (1, 2))
    ended = []

    def second():
        try:
            services.edit_person("last-2", {"active": False})
            ended.append("done")
        except Conflict as error:
            ended.append(error.message)
        finally:
            connections.close_all()

    def waiting():
        with connection.cursor() as cursor:
            # Not pg_stat_activity: what it shows stands still for as long as a transaction lasts.
            cursor.execute("select count(*) from pg_locks where not granted")
            return cursor.fetchone()[0]

    thread = threading.Thread(target=second)
    try:
        with transaction.atomic():
            groups.add_group("leavers", members=["last-1"])
            services.edit_person("last-1", {"role": "reader"})
            thread.start()
            until(lambda: ended or waiting())
        thread.join(PATIENCE)
        assert ended == ["this would leave the service without an administrator."]
    finally:
        Person.objects.filter(name__startswith="last-").delete()
        groups.group_named("leavers").delete()


def test_who_comes_into_a_group_may_at_once_what_it_may(service):
    with service.ladle() as administrator:
        administrator.people.add("tomasz", PASSWORD)
        made = administrator.people.add_group("gauges", "author", note="who look after gauges", members=["tomasz"])
        assert (made["role"], made["members"], made["note"]) == ("author", ["tomasz"], "who look after gauges")
        [person] = [each for each in administrator.people.list() if each["name"] == "tomasz"]
        assert (person["role"], person["own_role"], person["groups"]) == ("author", "reader", ["gauges"])
        with service.ladle("tomasz") as own:
            assert own.people.me()["role"] == "author"
            own.values.set("gauge_limit", {"live": 3})
            own.values.remove("gauge_limit")
            with pytest.raises(CallFailed, match="this needs administrator"):
                own.people.groups()
            administrator.people.edit_group("gauges", members=[])
            assert own.people.me()["role"] == "reader"
            with pytest.raises(CallFailed, match="is signed in as reader; this needs author"):
                own.values.set("gauge_limit", {"live": 3})
        administrator.people.remove_group("gauges")
        assert "gauges" not in [each["name"] for each in administrator.people.groups()]


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "says"),
    [
        ("POST", "/groups", {"name": "Two Words"}, 400, "cannot be a group's name"),
        ("POST", "/groups", {"name": "badly", "role": "authr"}, 400, "Did you mean 'author'?"),
        ("POST", "/groups", {"name": "badly", "members": ["administrater"]}, 400, "Did you mean 'administrator'?"),
        ("POST", "/groups", {"name": "badly", "people": []}, 400, "people"),
        ("PATCH", "/groups/none-such", {"note": "x"}, 404, "there is no group 'none-such'"),
        ("DELETE", "/groups/none-such", None, 404, "there is no group 'none-such'"),
    ],
)
def test_what_a_group_cannot_be_is_said(http, method, path, body, status, says):
    answer = http(method, path, **({"json": body} if body is not None else {}))
    assert (answer.status_code, says in answer.text) == (status, True), answer.text
    assert "badly" not in http("GET", "/groups").text


def test_a_group_on_the_command_line(service):
    with service.ladle() as administrator:
        administrator.people.add("signe", PASSWORD, "runner")
    assert "author" in service.command("group", "add", "samplers", "--role", "author", "--member", "signe").stdout
    assert "author (alone: runner)" in service.command("user", "list").stdout
    again = service.command("group", "add", "samplers")
    assert (again.returncode, "there is a group 'samplers' already" in again.stderr) == (2, True)
    nothing = service.command("group", "edit", "samplers")
    assert (nothing.returncode, "nothing to change was given" in nothing.stderr) == (2, True)
    stranger = service.command("group", "edit", "samplers", "--without", "nobody")
    assert "'nobody' is not in group 'samplers'. In it are: signe." in stranger.stderr.replace("\n", " ")
    both = service.command("group", "edit", "samplers", "--without", "signe", "--member", "signe")
    assert (both.returncode, "is to be in the group, and not" in both.stderr) == (2, True)
    edited = service.command("group", "edit", "samplers", "--member", "administrator", "--without", "signe", "--json").stdout
    assert '"administrator"' in edited and "signe" not in edited  # noqa: PT018  # one output
    service.command("group", "remove", "samplers", "--yes").check_returncode()
    assert "samplers" not in service.command("group", "list").stdout
