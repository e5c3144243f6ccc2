"""POST /api/v1/calc/NAME: the calculators, documented in OpenAPI. Errors are RFC 9457 problems."""

from __future__ import annotations

import json
import warnings
from typing import Any

from fastapi import APIRouter
from fastapi.responses import JSONResponse

from vornet.api.bodies import Raw, takes
from vornet.core.errors import InputError
from vornet.flows import calc
from vornet.flows.calc.base import Calculator

router = APIRouter(prefix="/api/v1/calc", tags=["calculators"])
_LARGEST = 2_000_000


def problem(status: int, title: str, detail: str, **more: Any) -> JSONResponse:
    """An RFC 9457 problem."""
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail, **more}
    return JSONResponse(body, status, media_type="application/problem+json")


def _add(calculator: Calculator) -> None:
    def run(body: Raw) -> Any:
        try:
            given = json.loads(body)
        except (ValueError, RecursionError):
            return problem(422, "Bad input", "input: is not JSON", field="input", why="is not JSON")
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                return calc.calculate(calculator.name, given)
        except InputError as error:
            return problem(422, "Bad input", str(error), field=error.field, why=error.why)

    schema = calculator.given.model_json_schema(ref_template="#/components/schemas/{model}")
    schema.pop("$defs", None)
    router.add_api_route(
        f"/{calculator.name}", run, methods=["POST"], dependencies=[takes(_LARGEST)], response_model=calculator.answer,
        response_model_exclude_none=calculator.name == "limits", summary=calculator.run.__doc__,
        operation_id=f"calc_{calculator.name.replace('-', '_')}",
        openapi_extra={"requestBody": {"required": True, "content": {"application/json": {"schema": schema}}}},
        responses={422: {"description": "Bad input: which field, and why", "content": {"application/problem+json": {}}}},
    )  # fmt: skip


for _calculator in calc.calculators():
    _add(_calculator)
