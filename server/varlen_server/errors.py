"""From our exceptions to answers a person can act on: {"message": …, "problems": […]}."""

from __future__ import annotations

import errno
from typing import Any

from django.db import DataError, IntegrityError
from django.http import HttpRequest, JsonResponse
from rest_framework import status
from rest_framework.exceptions import APIException
from rest_framework.response import Response
from rest_framework.views import exception_handler
from varlen.atomic_files import FULL
from varlen.datasets.convert import LossRefused
from varlen.errors import PipelineError, VarlenError

from varlen_server.backups import Busy

#: What values bring about that no serializer looks at: text that can't be stored, numbers that are too large, endless nesting.
UNUSABLE = (DataError, UnicodeError, RecursionError, OverflowError)
#: What names bring about that no file can have.
NO_PLACE = (errno.ENAMETOOLONG, errno.ENOTDIR, errno.EISDIR, errno.EINVAL, errno.ELOOP)
_WORDS: dict[type[Exception], str] = {RecursionError: "The request is nested too deeply."}


class Conflict(APIException):
    """Someone else was faster."""

    status_code = status.HTTP_409_CONFLICT


def explain(error: Exception, context: dict[str, Any]) -> Response | None:
    """One clear message for anything the user can mend; others stay server errors."""
    if isinstance(error, PipelineError):
        return Response({"message": error.problems[0], "problems": error.problems}, status.HTTP_422_UNPROCESSABLE_ENTITY)
    if isinstance(error, LossRefused):
        return Response({**_said(str(error)), "lost": error.lost}, status.HTTP_422_UNPROCESSABLE_ENTITY)
    if isinstance(error, VarlenError):
        return Response(_said(str(error)), status.HTTP_422_UNPROCESSABLE_ENTITY)
    if isinstance(error, Busy):
        return Response(_said(str(error)), status.HTTP_409_CONFLICT)
    if isinstance(error, OSError) and error.errno in FULL:
        return Response(_said("The disk is full; make room and try again. Nothing that was there is lost."), status.HTTP_507_INSUFFICIENT_STORAGE)
    if isinstance(error, OSError) and error.errno in NO_PLACE:
        return Response(_said("A name in it is too long, or leads through a file as if it were a folder."), status.HTTP_400_BAD_REQUEST)
    if isinstance(error, IntegrityError):
        return Response(_said("What it builds on was deleted or changed at this very moment; look again."), status.HTTP_409_CONFLICT)
    if isinstance(error, UNUSABLE):
        return Response(_said(_WORDS.get(type(error), "The request holds a value that can't be used.")), status.HTTP_400_BAD_REQUEST)
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


def refused_by_django(request: HttpRequest, exception: Exception | None = None) -> JsonResponse:
    """What Django itself refuses, before any view: too many files at once, a broken form."""
    words = {"TooManyFilesSent": "These are too many files for one request; send them in several, or as an archive.",
             "TooManyFieldsSent": "These are too many fields for one request.",
             "RequestDataTooBig": "The request is too large."}  # fmt: skip
    return plain_answer(words.get(type(exception).__name__, "The request can't be understood."), 400)


def not_here(request: HttpRequest, exception: Exception | None = None) -> JsonResponse:
    """An address that leads nowhere."""
    return plain_answer("There is nothing at this address.", 404)


def went_wrong(request: HttpRequest) -> JsonResponse:
    """A fault of ours: the log has it, under the request's number."""
    return plain_answer(f"Something went wrong here; the log has it under {getattr(request, 'request_id', '') or 'this moment'}.", 500)


def plain_answer(said: str, status_code: int) -> JsonResponse:
    """A refusal before any view."""
    return JsonResponse(_said(said), status=status_code)


def _said(text: str) -> dict[str, Any]:
    return {"message": text, "problems": [text]}
