"""The terminal and Python as clients of a server that runs elsewhere: a real one, on loopback."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import varlen
from django.contrib.auth.models import User
from typer.testing import CliRunner
from varlen.cli.main import app
from varlen.client import Remote
from varlen.editions.export_spec import ExportSpec
from varlen.editions.verify import verify
from varlen_server.editions.models import Edition
from varlen_server.editions.tasks import make_edition
from varlen_server.people import services
from varlen_server.people.models import Member
from varlen_server.people.roles import Scope

pytestmark = pytest.mark.django_db(transaction=True)
run = CliRunner()


@pytest.fixture
def there(live_server: Any, settings: Any, moths: Any, lamp_drift: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> Iterator[dict[str, str]]:
    """A server with a dataset and a pipeline; tokens by scope."""
    from varlen_server.pipelines.models import create

    settings.SIGN_IN = True
    create(lamp_drift)
    admin = User.objects.create_user("luna", password="lamp at the window")
    Member.objects.create(user=admin, role="admin")
    tokens = {str(scope): services.new_token(admin, f"for {scope}", scope, 3)[1] for scope in Scope}
    monkeypatch.setenv("VARLEN_URL", live_server.url)
    monkeypatch.setenv("VARLEN_TOKEN", tokens["write"])
    return {**tokens, "url": live_server.url}


def worker() -> threading.Thread:
    """Makes the edition that is ordered next, as the worker would."""

    def make() -> None:
        from django.db import connection

        while not (waiting := Edition.objects.filter(state="waiting").first()):
            pass
        make_edition(edition_id=waiting.pk)
        connection.close()

    thread = threading.Thread(target=make)
    thread.start()
    return thread


def test_order_wait_download_verify_and_score(there: dict[str, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    thread = worker()
    out = tmp_path / "edition"
    done = run.invoke(app, ["remote", "export", "Night moth survey", "Lamp drift", "--variants", "1", "--name", "From afar", "-o", str(out)])
    thread.join()
    assert done.exit_code == 0, done.output
    made = Edition.objects.get()
    assert done.stdout.strip() == made.output_digest
    assert list(verify(out, record=made.record_digest)) == []
    monkeypatch.setenv("VARLEN_TOKEN", there["scores"])
    scored = run.invoke(app, ["score", "From afar", "mAP50", "0.61", "--split", "validation", "--to", there["url"]])
    assert scored.exit_code == 0, scored.output
    assert [each["value"] for each in varlen.remote()._ask("GET", f"/api/editions/{made.pk}/scores")] == [0.61]
    listed = run.invoke(app, ["remote", "editions", "--json"])
    assert [row["state"] for row in json.loads(listed.stdout)] == ["done"]


def test_a_download_goes_on_where_it_broke_off(there: dict[str, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    thread = worker()
    remote = varlen.remote()
    made = remote.wait(remote.export("Night moth survey", "Lamp drift", ExportSpec(variants=1))["id"])
    thread.join()
    whole = remote.download(made["id"], tmp_path / "whole.zip").read_bytes()

    class Stop(Exception):
        pass

    def stop(done: int, total: int) -> None:
        if done > total / 3:
            raise Stop

    monkeypatch.setattr("varlen.client.BLOCK", 4096)
    with pytest.raises(Stop):
        remote.download(made["id"], tmp_path / "broken.zip", stop)
    seen: list[int] = []
    remote.download(made["id"], tmp_path / "broken.zip", lambda done, total: seen.append(done))
    assert (tmp_path / "broken.zip").read_bytes() == whole
    assert seen[0] > len(whole) / 3
    assert sorted(path.name for path in tmp_path.iterdir() if path.is_file()) == ["broken.zip", "whole.zip"]


def test_what_is_refused_is_said_in_one_line(there: dict[str, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    unknown = run.invoke(app, ["remote", "export", "Day moths", "Lamp drift"])
    assert unknown.exit_code == 1
    assert "there is no dataset 'Day moths'" in str(unknown.exception)
    told = (
        (there["read"], "A token for “read” can't do this."),
        ("varlen_wrong", "This token is not known here."),
        ("", "VARLEN_TOKEN holds the token"),
    )
    for token, said in told:
        monkeypatch.setenv("VARLEN_TOKEN", token)
        answer = run.invoke(app, ["remote", "export", "Night moth survey", "Lamp drift"])
        assert answer.exit_code == 1
        assert said in str(answer.exception), answer.exception
        assert token == "" or token not in str(answer.exception)
    with pytest.raises(varlen.RemoteError, match="does not answer"):
        Remote("http://127.0.0.1:9").datasets()
    for wrong in ("ftp://x", "varlen.example", "http://me:secret@x", "http://x?token=y"):
        with pytest.raises(varlen.RemoteError) as error:
            Remote(wrong)
        assert "secret" not in str(error.value)
    monkeypatch.delenv("VARLEN_URL")
    with pytest.raises(varlen.RemoteError, match="VARLEN_URL"):
        varlen.remote()
