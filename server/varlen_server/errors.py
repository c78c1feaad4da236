"""From our exceptions to answers a person can act on: {"message": …, "problems": […]}."""

from __future__ import annotations

from typing import Any

from rest_framework import status
from rest_framework.exceptions import APIException
from rest_framework.response import Response
from rest_framework.views import exception_handler
from varlen.errors import PipelineError, VarlenError


class Conflict(APIException):
    """Someone else was faster."""

    status_code = status.HTTP_409_CONFLICT


def explain(error: Exception, context: dict[str, Any]) -> Response | None:
    """One clear message for anything the user can mend; others stay server errors."""
    if isinstance(error, PipelineError):
        return Response({"message": error.problems[0], "problems": error.problems}, status.HTTP_422_UNPROCESSABLE_ENTITY)
    if isinstance(error, VarlenError):
        return Response({"message": str(error), "problems": [str(error)]}, status.HTTP_422_UNPROCESSABLE_ENTITY)
    answer = exception_handler(error, context)
    if answer is not None:
        problems = _flatten(answer.data)
        answer.data = {"message": problems[0] if problems else "The request can't be carried out.", "problems": problems}
    return answer


def _flatten(detail: Any, path: str = "") -> list[str]:
    if isinstance(detail, dict):
        return [line for key, value in detail.items() for line in _flatten(value, "" if key in ("detail", "non_field_errors") else f"{path}{key}")]
    if isinstance(detail, list):
        return [line for value in detail for line in _flatten(value, path)]
    return [f"{path}: {detail}" if path else str(detail)]
