"""The vornet command and the API give the same answers, and one sentence for bad input."""

import json
import subprocess
import sys

import httpx
import pytest

from vornet.flows import calc

ASK = {
    "convert": {"value": 62, "from": "N*m", "to": "lbf_ft"},
    "carry-over": {"system_volume_l": 40, "level_missing_l": 3, "drained_volume_l": 33, "old_value": 50, "new_value": 0},
    "flush": {"system_volume_l": 40, "drained_volume_l": 30, "target_share": 0.05},
    "refill": {"capacity_l": 3.4, "pack_l": 1},
    "wear-rate": {"system_volume_l": 40, "start_ppm": 8, "new_oil_ppm": 2, "samples": [{"h": 500, "ppm": 60}],
                  "top_ups": [{"h": 100, "litres": 5}, {"h": 220, "litres": 6}, {"h": 360, "litres": 7}]},
    "limits": {"values": list(range(40)), "method": "percentile"},
    "trend": {"points": [{"x": i, "y": i * 2 + (i % 3)} for i in range(8)]},
    "safe-interval": {"start": 10, "limit": 5, "slopes_per_h": [-0.0080, -0.0095, -0.0088, -0.0102, -0.0091], "sd": 0.25},
}  # fmt: skip


def vornet(*args: str, given: str = "") -> subprocess.CompletedProcess:
    return subprocess.run([sys.executable, "-m", "vornet", *args], input=given, capture_output=True, text=True, timeout=120)


@pytest.mark.parametrize("name", ASK)
def test_the_api_answers_as_the_flow_does(served, name):
    answer = httpx.post(f"{served.url}/api/v1/calc/{name}", json=ASK[name])
    assert answer.status_code == 200
    assert answer.json() == json.loads(json.dumps(calc.calculate(name, ASK[name])))


def test_the_command_answers_with_its_check_value():
    done = vornet("calc", "safe-interval", given=json.dumps(ASK["safe-interval"]))
    assert done.returncode == 0
    assert json.loads(done.stdout)["safe_h"] == pytest.approx(439.35, abs=5e-3)


def test_lines_go_on_after_a_bad_one():
    lines = [json.dumps(ASK["flush"]), "{", json.dumps({"system_volume_l": 1}), json.dumps(ASK["flush"])]
    done = vornet("calc", "flush", "--lines", given="\n".join(lines) + "\n")
    answers = [json.loads(line) for line in done.stdout.splitlines()]
    assert done.returncode == 0
    assert answers[0] == answers[3] == {"drains": 3, "final_share": 0.015625}
    assert "error" in answers[1]
    assert answers[2]["field"] == "drained_volume_l"


@pytest.mark.parametrize(
    ("args", "given", "word"),
    [
        (("calc", "carry-over"), '{"system_volume_l": 40, "drained_volume_l": 44, "old_value": 1, "new_value": 0}',
         "drained_volume_l"),
        (("calc", "convert"), '{"value": 1, "from": "blorp", "to": "L"}', "from"),
        (("calc", "trend"), '{"points": [{"x": 1, "y": "high"}, {"x": 2, "y": 3}]}', "points[0].y"),
        (("calc", "nothing"), "{}", "nothing"),
        (("import", "results", "/no/such/file"), "", "cannot be read"),
    ],
)  # fmt: skip
def test_bad_input_is_one_sentence_and_exit_2(args, given, word):
    done = vornet(*args, given=given)
    assert done.returncode == 2
    assert word in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1


@pytest.mark.parametrize("body", [b"", b"[]", b"nonsense", b'{"value": NaN, "from": "L", "to": "L"}', b'{"extra": 1}'])
def test_the_api_refuses_with_a_problem_document(served, body):
    answer = httpx.post(f"{served.url}/api/v1/calc/convert", content=body)
    assert answer.status_code == 422
    assert answer.headers["content-type"] == "application/problem+json"
    assert {"title", "status", "detail", "field", "why"} <= set(answer.json())


def test_openapi_lists_every_calculator(served):
    paths = httpx.get(f"{served.url}/api/v1/openapi.json").json()["paths"]
    assert {f"/api/v1/calc/{name}" for name in calc.WHERE} <= set(paths)
