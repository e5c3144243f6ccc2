"""The whole API, by its own description: whatever fits the description and whatever does not is answered in order (a fixed seed; the longer
run is `make bench`'s)."""

import os
import re

import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from hypothesis.errors import Unsatisfiable
from schemathesis import GenerationMode
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import content_type_conformance, response_schema_conformance

from conftest import TODAY
from vornet.flows.house import fleets, people, sessions, tokens
from vornet.web.app import create_app

#: cases an operation; VORNET_CASES asks for more
CASES = int(os.environ.get("VORNET_CASES", "4"))
SCOPES = ["read", "work", "import", "judge", "register", "decide", "plan"]


@pytest.fixture(scope="module")
def key(db, worker_id):
    """A fleet of its own for a program that may do all that programs may."""
    name, login = f"Described {worker_id}", f"described-{worker_id}"
    fleet_id = fleets.find_or_make(db, name)
    people.add(db, name, login, "Robot", "right-and-long", "technician", "planner", "analyst", "manager", "admin")
    with db.fleet(fleet_id) as c:
        return tokens.make(c, fleet_id, sessions.account_named(db, login), "t", "all", SCOPES, 30)


@pytest.fixture(scope="module")
def described(db):
    return schemathesis.openapi.from_asgi("/api/v1/openapi.json", create_app(db, today=TODAY), headers={"Host": "testserver"})


def dressed(ctx, response, case):
    """Every answer carries what guards a browser, and none tells how Vornet is made."""
    headers = {k.lower(): v for k, v in response.headers.items()}
    assert headers["x-content-type-options"] == ["nosniff"], response.status_code
    assert "default-src 'none'" in headers["content-security-policy"][0]
    assert not re.search(rb"Traceback|psycopg|/site-packages/", response.content or b"")


def test_every_operation_answers_in_order(described, key):
    checks = [not_a_server_error, content_type_conformance, response_schema_conformance, dressed]
    headers, wrong, asked = {"Authorization": f"Bearer {key}", "Host": "testserver"}, {}, 0
    for found in described.get_all_operations():
        operation = found.ok()
        for mode in GenerationMode:  # what the description allows, and what it does not

            @given(case=operation.as_strategy(generation_mode=mode))
            @settings(max_examples=CASES, derandomize=True, deadline=None, database=None, suppress_health_check=list(HealthCheck))
            def answers(case):
                case.call_and_validate(headers=headers, checks=checks)

            asked += 1
            try:
                answers()
            except Unsatisfiable:
                pass  # nothing there can be wrong: no body, no parameter
            except (Exception, BaseExceptionGroup) as error:
                wrong[f"{operation.label}, {mode.name.lower()}"] = str(error)[:1500]
    assert wrong == {}
    assert asked > 40
