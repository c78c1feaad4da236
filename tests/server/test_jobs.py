"""Editions as jobs: killed, cancelled, failing, and always accounted for."""

from __future__ import annotations

import asyncio
import shutil
from pathlib import Path
from typing import Any

import pytest
from asgiref.sync import async_to_sync
from procrastinate.contrib.django import app
from varlen.export import Order, export
from varlen.formats import read_dataset
from varlen.pipeline import from_json
from varlen_server.editions.models import Edition
from varlen_server.editions.rescue import put_back
from varlen_server.editions.tasks import make_edition
from varlen_server.store import path_of

pytestmark = pytest.mark.django_db(transaction=True)
ORDER = {"variants": 2, "originals": True, "format": "coco", "image": "jpeg", "quality": 90}


@pytest.fixture
def edition(moths: Any, lamp_drift: dict[str, Any]) -> Edition:
    return Edition.objects.create(name="Trial", dataset=moths, document=from_json(lamp_drift).to_json(), order=ORDER, total=20)


@pytest.fixture
def expected(survey_folder: Path, lamp_drift: dict[str, Any], tmp_path: Path) -> str:
    return str(export(read_dataset(survey_folder), from_json(lamp_drift), tmp_path / "terminal", Order(variants=2))["output_digest"])


def work() -> None:
    """A worker that does what is waiting and ends."""
    worker = app.with_connector(app.connector.get_worker_connector())

    async def run() -> None:
        async with worker.open_async():
            await put_back(worker, silent_seconds=0)
            await worker.run_worker_async(wait=False, install_signal_handlers=False, listen_notify=False)

    async_to_sync(run)()


def test_a_killed_worker_s_edition_goes_on_where_it_was(edition: Edition, expected: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The worker dies after some chunks: its job stays “doing”, nobody cleans up. The next worker takes it up again."""
    import varlen_server.editions.tasks as tasks

    class Killed(BaseException):
        """Nothing catches this, as nothing catches a kill."""

    job = make_edition.defer(edition_id=edition.pk)
    real = tasks.export

    def dying(*arguments: Any, **options: Any) -> dict[str, Any]:
        def stop() -> bool:
            raise Killed

        return real(*arguments, **{**options, "stop": stop, "workers": 2})

    monkeypatch.setattr(tasks, "export", dying)
    with pytest.raises(Killed):
        make_edition(edition_id=edition.pk)
    monkeypatch.setattr(tasks, "export", real)
    _mark_doing(job)
    edition.refresh_from_db()
    assert edition.state == Edition.State.WRITING
    work()
    edition.refresh_from_db()
    assert (edition.state, edition.done) == (Edition.State.DONE, 20), edition.message
    assert edition.output_digest == expected


def _mark_doing(job: int) -> None:
    """Leave a job as a worker leaves it that was killed while doing it."""
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("insert into procrastinate_workers (last_heartbeat) values (now() - interval '1 hour') returning id")
        worker = cursor.fetchone()[0]
        cursor.execute("update procrastinate_jobs set status = 'doing', worker_id = %s where id = %s", [worker, job])


def test_a_worker_that_died_after_the_last_file_finds_the_edition_done(edition: Edition, expected: str, tmp_path: Path) -> None:
    edition.folder.parent.mkdir(parents=True)
    shutil.copytree(tmp_path / "terminal", edition.folder)
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.WRITING)
    make_edition(edition_id=edition.pk)
    edition.refresh_from_db()
    assert (edition.state, edition.output_digest) == (Edition.State.DONE, expected)


def test_asked_to_stop_it_leaves_nothing_behind(edition: Edition) -> None:
    Edition.objects.filter(pk=edition.pk).update(stop_asked=True)
    make_edition(edition_id=edition.pk)
    edition.refresh_from_db()
    assert edition.state == Edition.State.CANCELLED
    assert list(edition.folder.parent.iterdir()) == []


def test_a_picture_gone_since_the_import_is_named(edition: Edition, settings: Any) -> None:
    image = edition.dataset.images.filter(split="train").last()
    assert image is not None
    path_of(settings.PICTURES, image.sha256).unlink()
    make_edition(edition_id=edition.pk)
    edition.refresh_from_db()
    assert edition.state == Edition.State.FAILED
    assert image.key in edition.message
    assert "its file is gone" in edition.message
    assert not edition.folder.exists()


def test_a_finished_edition_is_not_made_twice(edition: Edition) -> None:
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.DONE, output_digest="sha256:kept")
    make_edition(edition_id=edition.pk)
    edition.refresh_from_db()
    assert edition.output_digest == "sha256:kept"
    assert not edition.folder.exists()


def test_an_order_and_its_job_stand_or_fall_together(client: Any, moths: Any, lamp_drift: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    from varlen_server.editions import views

    def broken(**values: Any) -> int:
        raise RuntimeError("the queue is not there")

    monkeypatch.setattr(views.make_edition, "defer", broken)
    client.raise_request_exception = False
    order = {"name": "Trial", "dataset": moths.pk, "document": lamp_drift}
    assert client.post("/api/editions", order, content_type="application/json").status_code == 500
    assert Edition.objects.count() == 0


def test_nothing_to_put_back_is_nothing() -> None:
    worker = app.with_connector(app.connector.get_worker_connector())

    async def run() -> int:
        async with worker.open_async():
            return await put_back(worker)

    assert asyncio.run(run()) == 0
