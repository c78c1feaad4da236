"""Answers to “Range: bytes=…” (RFC 9110, 14), so that a download that broke can go on."""

from __future__ import annotations

import re

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase

from varlen_server.editions.zip_stream import Zip


def part_asked(request: HttpRequest, length: int, etag: str) -> tuple[int, int] | None:
    """First byte and the byte after the last, None for the whole. Raises `ValueError` for a part that is not there.

    Several ranges at once, or a range of another version (If-Range), are answered with the whole.
    """
    match = re.fullmatch(r"bytes=(\d*)-(\d*)", request.headers.get("Range", "").strip())
    if match is None or match[1] == match[2] == "" or request.headers.get("If-Range", etag) != etag:
        return None
    if match[1] == "":
        start, end = max(0, length - int(match[2])), length
    else:
        start, end = int(match[1]), min(int(match[2]) + 1, length) if match[2] else length
    if start >= end:
        raise ValueError(f"bytes {match[0]} of {length}")
    return start, end


def zip_response(request: HttpRequest, archive: Zip, name: str, etag: str) -> HttpResponseBase:
    """The zip, or the part of it that is asked for."""
    headers = {"Content-Disposition": f'attachment; filename="{name}"', "Accept-Ranges": "bytes", "ETag": etag}
    try:
        part = part_asked(request, archive.length, etag)
    except ValueError:
        return HttpResponse(status=416, headers={**headers, "Content-Range": f"bytes */{archive.length}"})
    start, end = part or (0, archive.length)
    headers["Content-Length"] = str(end - start)
    if part:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{archive.length}"
    return StreamingHttpResponse(archive.blocks(start, end), status=206 if part else 200, content_type="application/zip", headers=headers)
