"""Requests made by the API's own document, right ones and wrong ones: no fault, no undocumented status, no answer of another form."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path

import hypothesis
import pytest
import schemathesis
from hypothesis import strategies as st
from schemathesis import GenerationMode

import patient_ladle
from patient_ladle.client import Ladle
from tests.command import PATIENCE
from tests.conftest import PASSWORD, READER_PASSWORD, first_password, start_service, stop_service
from tests.profile import REQUESTS

DOCUMENT = Path(__file__).parents[2] / "docs" / "openapi.json"
DESCRIBED = Path(patient_ladle.__file__).parent / "service" / "common" / "described.json"
NOT_ASKED = ("sign_out", "change_own_password", "edit_person", "session_sign_in", "token_sign_in", "drain_worker")
"""What would end the caller's own sign-in, or the work of everybody."""
SOURCE_FAULTS = (502, 503, 504, 507)
"""Said of a source, a store or a service database that is away: documented, and no fault of ours."""


@pytest.fixture(scope="module")
def filled(request, home, metering, works):
    """A service of its own, for its sources and extracts come and go; with something of every kind."""
    made = start_service(home / f"requested-by-{request.module.__name__}", LADLE_QUERY_SECONDS="20")
    ladle, made.tokens["administrator"] = Ladle.sign_in(made.url, "administrator", first_password(made.data))
    with ladle:
        ladle.people.edit("administrator", password=PASSWORD)
        for environment in ("live", "rehearsal"):
            ladle.sources.add_environment(environment)
        ladle.sources.add("metering", "postgresql", {"live": {"address": metering, "secret": READER_PASSWORD}})
        ladle.sources.add("works", "mariadb", {"live": {"address": works, "secret": READER_PASSWORD}})
        ladle.sources.run_query("metering", "live", "catalogue")
        ladle.extracts.add("use", "metering", "select name, zone from districts where zone = any(:zones)", formats=["csv", "json", "xlsx"],
                           folder="regulation", deliver_into="use", parameters=[{"name": "zones", "is_list": True, "default": ["North"]}])  # fmt: skip
        ladle.extracts.add("guarded", "metering", "select 1 as a where false", guards=[{"guard": "not_empty"}])
        ladle.extracts.add("broken", "metering", "select nmae from districts")
        ladle.schedules.add("daily", "use", "live", "weekdays 06:30", finish_by="08:00", then=[{"extract": "guarded"}])
        ladle.transport.call("PATCH", "/values/threshold", json={"values": {"live": 3}})
        ladle.alerts.add_channel("duty", "webhook", {"url": "https://alerts.fennmoor.example/x"})
        for name in ("use", "guarded"):
            ladle.runs.wait(ladle.runs.start(name)["id"], PATIENCE)
    yield made
    stop_service(made)
    assert not [line for line in made.log if "Traceback" in line], "".join(made.log)


NAMES = {"name": ["use", "guarded", "metering", "works", "daily", "threshold", "duty", "live", "administrator"], "number": ["1", "2", "3"],
         "table": ["districts", "readings"], "format": ["csv", "json", "xlsx"], "token_id": ["1"], "row": ["0"], "column": ["0"]}  # fmt: skip


def operations():
    schema = schemathesis.openapi.from_dict(json.loads(DOCUMENT.read_text()))
    found = [each.ok() for each in schema.get_all_operations()]
    return [each for each in found if each.definition.raw["operationId"] not in NOT_ASKED]


def fault_of(operation, answer):
    """What is wrong with an answer, in words; empty where nothing is."""
    if answer.status_code >= 500 and answer.status_code not in SOURCE_FAULTS:
        return f"a fault: {answer.status_code}"
    if str(answer.status_code) not in operation.definition.raw["responses"]:
        return f"a status that the document does not name: {answer.status_code}"
    try:
        operation.validate_response(answer)
    except Exception as error:  # noqa: BLE001  # whatever it found is the finding
        return f"not of the form that the document gives: {str(error)[:400]}"
    return ""


class Requests:
    """Sends what is generated, and keeps one example of each finding."""

    def __init__(self, service):
        self.url = service.url
        self.headers = {"Authorization": f"Bearer {service.tokens['administrator']}"}
        self.found, self.statuses = {}, Counter()

    def send(self, operation, mode, count):
        """So many requests of one operation, right or wrong ones."""

        @hypothesis.settings(max_examples=count, phases=[hypothesis.Phase.generate])
        @hypothesis.given(operation.as_strategy(generation_mode=mode), NAMED, st.integers(0, 3))
        def one(case, names, known):
            if known and case.path_parameters:  # mostly things that are there: else nothing but 404 is seen
                case.path_parameters = {key: names.get(key, value) for key, value in case.path_parameters.items()}
            self.ask(operation, case)

        one()

    def ask(self, operation, case):
        try:
            answer = case.call(base_url=self.url, headers=self.headers, timeout=PATIENCE)
        except (ValueError, OSError) as error:
            self.found.setdefault((operation.label, type(error).__name__), str(error))
            return
        self.statuses[answer.status_code] += 1
        fault = fault_of(operation, answer)
        if fault:
            example = f"{fault} {case.as_curl_command()} → {answer.text[:300]}"
            self.found.setdefault((operation.label, fault.split(":")[0]), example)


NAMED = st.fixed_dictionaries({key: st.sampled_from(values) for key, values in NAMES.items()})


def test_generated_requests_find_no_fault_and_no_other_answer_than_the_document_says(filled, found):
    requests, asked = Requests(filled), operations()
    for operation in asked:
        for mode in GenerationMode:
            requests.send(operation, mode, max(1, REQUESTS // (2 * len(asked))))
    statuses = requests.statuses
    found(f"{statuses.total():,} generated requests, right and wrong ones: no fault, no undocumented answer; {dict(statuses)}.")
    assert not requests.found, "\n".join(f"{label}: {fault}" for (label, _), fault in requests.found.items())
    assert statuses.total() > REQUESTS / 2
    assert statuses[200] > REQUESTS / 20, "hardly any request was one that the service takes: this proves little"


def test_the_document_says_of_each_call_parameter_and_property_what_it_is():
    document, words = json.loads(DOCUMENT.read_text()), json.loads(DESCRIBED.read_text())
    calls = [call for methods in document["paths"].values() for call in methods.values()]
    parameters = [parameter for call in calls for parameter in call.get("parameters", [])]
    schemas = document["components"]["schemas"]
    properties = [(name, each) for schema in schemas.values() for name, each in schema.get("properties", {}).items()]
    for each in [*calls, *parameters, *(each for _, each in properties)]:
        assert each.get("description", "").strip()
        assert "$ref" not in each
    assert words["calls"].keys() <= {call["operationId"] for call in calls}
    assert words["parameters"].keys() <= {parameter["name"] for parameter in parameters}
    assert words["properties"].keys() <= {name for name, _ in properties}
    for name, said in words["properties"].items():
        for schema in [] if isinstance(said, str) else said.keys() - {""}:
            assert name in schemas[schema]["properties"]
