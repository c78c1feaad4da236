"""Whole files to and from S3 by a client in compiled code, where it is installed (extra `cloud`): a tenth of the processor time.

Which server, who one is and what is asked for are those of the fsspec client, by the same settings. Where a transfer
fails here, or a setting is one that only fsspec's client knows, that client does it and says what is wrong.
"""

from __future__ import annotations

import mimetypes
import os
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

#: Credentials are asked for again after this time; those that expire sooner are renewed by the store's own means.
CREDENTIALS_LAST = timedelta(minutes=5)
#: Seconds for one part of a file.
TIMEOUT = "120s"
#: Bytes of a part of a large file that is sent; so many are read ahead of one that is read piece by piece.
PART = 8 << 20
#: After so many failures the store is left to fsspec's client for good.
MOST_FAILURES = 3

#: What stands in for an fsspec client, itself among it, for a bucket; None where nothing does.
_buckets: dict[tuple[int, str], tuple[Any, Any, Any] | None] = {}
_failures: dict[str, int] = {}
_lock = threading.Lock()
#: The process whose threads make the transfers: a copy of it has none of them.
_owner: int | None = None


def _begin_anew() -> None:
    """In a copy of the process: whoever held the lock is not there."""
    global _lock
    _lock = threading.Lock()


os.register_at_fork(after_in_child=_begin_anew)


def read(files: Any, name: str) -> bytes | None:
    """A whole file, None where fsspec's client is to read it. name: bucket and path, as fsspec says it."""
    found = _opened(files, name)
    if found is None:
        return None
    module, bucket, path = found
    try:
        return bytes(module.get(bucket, path).bytes())
    except FileNotFoundError:
        raise
    except Exception:
        _note_failure(name)
        return None


def send(files: Any, file: Path, name: str) -> bool:
    """Send a file of this machine; False where fsspec's client is to do it."""
    found = _opened(files, name)
    if found is None:
        return False
    module, bucket, path = found
    kind, _ = mimetypes.guess_type(file)
    try:
        module.put(bucket, path, file, attributes={"Content-Type": kind} if kind else None, chunk_size=PART)
    except Exception:
        _note_failure(name)
        return False
    return True


def _note_failure(name: str) -> None:
    bucket = name.partition("/")[0]
    _failures[bucket] = _failures.get(bucket, 0) + 1


def _opened(files: Any, name: str) -> tuple[Any, Any, str] | None:
    """The module, the bucket and the path in it; None where the fast client can't stand in for `files`."""
    global _owner
    bucket, _, path = name.partition("/")
    if _failures.get(bucket, 0) >= MOST_FAILURES or not _stands_in(files):
        return None
    with _lock:
        if _owner not in (None, os.getpid()):
            return None
        key = (id(files), bucket)
        if key not in _buckets:
            try:
                import obstore

                _buckets[key] = (obstore, _bucket(files, bucket), files)
            except Exception:  # not installed, or something about the settings that it does not understand
                _buckets[key] = None
            else:
                _owner = os.getpid()
        found = _buckets[key]
    return None if found is None else (*found[:2], path)


def _stands_in(files: Any) -> bool:
    """Whether these are files of S3 by the store's own settings, with nothing that was set for fsspec's client alone."""
    protocol = getattr(files, "protocol", ())
    return "s3" in ((protocol,) if isinstance(protocol, str) else protocol) and not set(files.storage_options) - {"use_listings_cache"}


def _bucket(files: Any, bucket: str) -> Any:
    """A client of one bucket, at the server that fsspec's client speaks to and as the same person."""
    from botocore.session import Session
    from obstore.store import S3Store

    files.connect()
    server = files.s3.meta
    session = Session(profile=os.environ.get("AWS_PROFILE"))

    def credentials() -> dict[str, Any]:
        found = session.get_credentials().get_frozen_credentials()
        return {
            "access_key_id": found.access_key,
            "secret_access_key": found.secret_key,
            "token": found.token,
            "expires_at": datetime.now(UTC) + CREDENTIALS_LAST,
        }

    return S3Store(
        bucket,
        config={"endpoint": server.endpoint_url, "region": server.region_name or "us-east-1"},
        client_options={"allow_http": server.endpoint_url.startswith("http://"), "timeout": TIMEOUT},
        retry_config={"max_retries": 2, "retry_timeout": timedelta(seconds=20)},
        credential_provider=credentials,  # type: ignore[arg-type]  # a plain dict of what it asks for
    )
