"""Requests, checked: bodies and query strings by the same serializers that describe them in the API's schema."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from rest_framework.request import Request
from rest_framework.serializers import Serializer

Checked = dict[str, Any]


def body_of(request: Request, form: type[Serializer]) -> Checked:
    """The request's body as `form` reads it. Raises `ValidationError` naming every field that can't be used."""
    return _checked(form(data=request.data))


def query_of(request: Request, form: type[Serializer]) -> Checked:
    """The address's query string as `form` reads it. Raises `ValidationError` likewise."""
    return _checked(form(data=request.query_params))


def _checked(form: Serializer) -> Checked:
    form.is_valid(raise_exception=True)
    found: Checked = form.validated_data
    return found


def address_of(request: HttpRequest) -> str:
    """The address a request comes from: on a socket of the file system, where only our own nginx reaches it, the one that nginx names."""
    address = str(request.META.get("REMOTE_ADDR", ""))
    return address or request.headers.get("X-Real-IP", "")[:64]
