"""A Varlen elsewhere: list what it has, order editions there and wait for them, download them, post scores.

`VARLEN_URL` says where it is and `VARLEN_TOKEN` lets in; both can be given instead.
"""

from __future__ import annotations

import os
import time
import zipfile
from collections.abc import Callable, Collection, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from varlen.atomic_files import claimed
from varlen.editions.export_spec import ExportSpec
from varlen.errors import EditionError, RemoteError
from varlen.pipeline.document import Pipeline, read

if TYPE_CHECKING:
    import httpx

_LOOPBACK = ("127.0.0.1", "localhost", "::1")
#: Seconds between two looks at an edition that is being made, and without an answer until it is given up.
EVERY, PATIENCE = 0.7, 60.0
#: Answers that may be better a moment later.
_PASSING = (429, 502, 503, 504)
ATTEMPTS = 5
BLOCK = 1 << 20
ENDED = ("done", "stopped", "failed", "cancelled")
Progress = Callable[[int, int], None]


class Remote:
    """A Varlen at an address. Every method raises `RemoteError` with what the server says, or that it does not answer.

    >>> import varlen as v
    >>> v.Remote("http://127.0.0.1:8417").exposed
    False
    """

    def __init__(self, url: str, token: str = "") -> None:
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise RemoteError(f"where the server is must be an address such as https://varlen.example, not {url!r} (VARLEN_URL)")
        if parts.username or parts.query:
            raise RemoteError("a token does not belong in the address: give it as token, or in VARLEN_TOKEN")
        self.url, self._token = url.rstrip("/"), token
        self._host = parts.hostname

    def __repr__(self) -> str:
        return f"Remote({self.url!r})"

    @property
    def exposed(self) -> bool:
        """Whether the token goes over a network in the open."""
        return bool(self._token) and self.url.startswith("http:") and self._host not in _LOOPBACK

    def datasets(self) -> list[dict[str, Any]]:
        """Datasets there."""
        return list(self._ask("GET", "/api/datasets"))

    def pipelines(self) -> list[dict[str, Any]]:
        """Pipelines there."""
        return list(self._ask("GET", "/api/pipelines"))

    def editions(self) -> list[dict[str, Any]]:
        """Editions there, the newest first."""
        return list(self._ask("GET", "/api/editions"))

    def edition(self, named: int | str) -> dict[str, Any]:
        """One edition, by its number or its name."""
        return _found(self.editions(), named, "edition")

    def export(self, dataset: int | str, pipeline: int | str | Path | Pipeline, spec: ExportSpec | None = None, name: str = "",
               accept_loss: Collection[str] = (), leave_out: bool = False) -> dict[str, Any]:  # fmt: skip
        """Order an edition. dataset: number or name there; pipeline: one at hand, a file of one, or number or name of one there."""
        row = _found(self.datasets(), dataset, "dataset")
        document, revision = self._document(pipeline)
        name = name or f"{row['name']}, {document.get('name') or 'pipeline'}"[:120]
        order = (spec or ExportSpec()).to_json()
        body = {**order, "name": name, "dataset": row["id"], "document": document, "accept_loss": list(accept_loss), "leave_out": leave_out}
        return dict(self._ask("POST", "/api/editions", {**body, **({"revision": revision} if revision else {})}))

    def _document(self, pipeline: int | str | Path | Pipeline) -> tuple[dict[str, Any], int | None]:
        if isinstance(pipeline, Pipeline):
            return pipeline.to_json(), None
        if isinstance(pipeline, Path) or (isinstance(pipeline, str) and pipeline.endswith(".json")):
            return read(Path(pipeline)).to_json(), None
        latest = self._ask("GET", f"/api/pipelines/{_found(self.pipelines(), pipeline, 'pipeline')['id']}")
        return latest["document"], latest["id"]

    def wait(self, edition: int, progress: Progress = lambda done, total: None) -> dict[str, Any]:
        """Until an edition is done. Raises `RemoteError` when it stopped or was cancelled; what was written is kept there."""
        while True:
            found = self._ask("GET", f"/api/editions/{edition}")
            progress(found["done"], found["total"])
            if found["state"] == "done":
                return dict(found)
            if found["state"] in ENDED:
                raise RemoteError(f"edition {edition}, {found['name']}: {found['state']}, {found['message'] or 'no reason given'}")
            time.sleep(EVERY)

    def cancel(self, edition: int) -> None:
        """Stop making an edition."""
        self._ask("POST", f"/api/editions/{edition}/cancel", {})

    def score(self, edition: int | str, scores: list[Mapping[str, Any]]) -> int:
        """Attach scores to an edition: name and value, and where they apply epoch, split, note and run. Returns how many."""
        self._ask("POST", f"/api/editions/{self.edition(edition)['id']}/scores", {"scores": [dict(each) for each in scores]})
        return len(scores)

    def download(self, edition: int | str, out: Path | str, progress: Progress = lambda done, total: None) -> Path:
        """Fetch an edition as a zip, or unpacked where `out` does not end in .zip; one that broke off continues where it was."""
        target = Path(out)
        number = self.edition(edition)["id"]
        if target.exists() and (target.is_file() or any(target.iterdir())):
            raise EditionError(f"{target}: is there already")
        part = target.with_name(f".{target.name.removesuffix('.zip')}.varlen-download.zip")
        part.parent.mkdir(parents=True, exist_ok=True)
        for attempt in range(ATTEMPTS):
            try:
                self._fetch(f"/api/editions/{number}/download", part, progress)
                break
            except RemoteError as error:
                if attempt == ATTEMPTS - 1 or not error.passing:
                    raise
                time.sleep(2**attempt / 2)
        if target.suffix == ".zip":
            part.rename(target)
        else:
            _unpack(part, target)
            part.unlink()
        part.with_suffix(".version").unlink(missing_ok=True)
        return target

    def _fetch(self, path: str, part: Path, progress: Progress) -> None:
        """Into a file, from where it ends if it is still the same that is offered."""
        import httpx

        version = part.with_suffix(".version")
        have = part.stat().st_size if part.exists() and version.exists() else 0
        headers = {"Range": f"bytes={have}-", "If-Range": version.read_text()} if have else {}
        try:
            with self._client() as client, client.stream("GET", self.url + path, headers=headers) as answer:
                if answer.status_code == 416:  # all of it is here
                    return
                if answer.status_code not in (200, 206):
                    answer.read()
                    raise self._refused(answer)
                version.write_text(answer.headers.get("ETag", ""))
                done = have if answer.status_code == 206 else 0
                total = done + int(answer.headers.get("Content-Length", 0))
                with part.open("ab" if done else "wb") as file:
                    for block in answer.iter_bytes(BLOCK):
                        file.write(block)
                        done += len(block)
                        progress(done, total)
        except httpx.HTTPError as error:
            raise RemoteError(f"{self.url}: the download broke off ({_said(error)})", passing=True) from None

    def _client(self) -> httpx.Client:
        import httpx

        headers = {"Authorization": f"Bearer {self._token}"} if self._token else {}
        # Redirects are not followed: the token is for this server alone.
        return httpx.Client(headers=headers, timeout=PATIENCE, trust_env=self._host not in _LOOPBACK)

    def _ask(self, method: str, path: str, body: Any = None) -> Any:
        import httpx

        for attempt in range(ATTEMPTS):
            try:
                with self._client() as client:
                    answer = client.request(method, self.url + path, json=body)
            except httpx.HTTPError as error:
                if attempt < ATTEMPTS - 1 and method == "GET" and not isinstance(error, httpx.ConnectError):
                    continue
                raise RemoteError(f"{self.url} does not answer ({_said(error)})", passing=True) from None
            if answer.status_code in _PASSING and attempt < ATTEMPTS - 1:
                time.sleep(min(float(answer.headers.get("Retry-After", 2**attempt / 4)), 20.0))
                continue
            if answer.status_code >= 300:
                raise self._refused(answer)
            return answer.json() if answer.content else None
        raise AssertionError("the last attempt returns or raises")

    def _refused(self, answer: httpx.Response) -> RemoteError:
        try:
            found = answer.json()
            lines = found.get("problems") or [found["message"]]
        except (ValueError, AttributeError, KeyError):
            lines = [f"answered {answer.status_code}"]
        if answer.status_code == 401:
            lines = [*lines, "VARLEN_TOKEN holds the token" if not self._token else ""]
        return RemoteError(f"{self.url}: {' '.join(filter(None, map(str, lines)))}", passing=answer.status_code in _PASSING)


def remote(url: str | None = None, token: str | None = None) -> Remote:
    """A Varlen elsewhere; url and token from `VARLEN_URL` and `VARLEN_TOKEN` unless given. Raises `RemoteError` without an address.

    >>> import varlen as v
    >>> there = v.remote("https://varlen.example", token="varlen_…")
    >>> there
    Remote('https://varlen.example')

    Then, with a server there: ``there.score(there.export("Night moth survey", "Lamp drift")["id"], [{"name": "mAP50", "value": 0.61}])``.
    """
    found = url or os.environ.get("VARLEN_URL", "")
    if not found:
        raise RemoteError("where is the server? give its address, or set VARLEN_URL")
    return Remote(found, os.environ.get("VARLEN_TOKEN", "") if token is None else token)


def _found(rows: list[dict[str, Any]], named: int | str, kind: str) -> dict[str, Any]:
    """The row with this number or this name. Raises `RemoteError` where there is none, or more than one of the name."""
    text = str(named)
    same = [row for row in rows if str(row["id"]) == text] or [row for row in rows if row["name"] == text]
    if len(same) == 1:
        return same[0]
    if same:
        raise RemoteError(f"there are {len(same)} {kind}s called {text!r}: say which by number ({', '.join(str(row['id']) for row in same)})")
    names = ", ".join(f"{row['id']} {row['name']}" for row in rows[:8])
    raise RemoteError(f"there is no {kind} {text!r}{f'; there are {names}' if names else ''}")


def _unpack(archive: Path, folder: Path) -> None:
    """All of a zip, or nothing. Raises `EditionError` for names that would lie elsewhere."""
    with claimed(folder) as part, zipfile.ZipFile(archive) as found:
        for name in found.namelist():
            if name.startswith("/") or ".." in Path(name).parts or "\\" in name:
                raise EditionError(f"{archive}: {name!r} would lie outside")
        found.extractall(part)
        if folder.exists():
            folder.rmdir()
        part.rename(folder)


def _said(error: Exception) -> str:
    return str(error) or type(error).__name__
