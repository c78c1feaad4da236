"""Editions as jobs: killed, cancelled, failing, and always accounted for."""

from __future__ import annotations

import asyncio
import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from asgiref.sync import async_to_sync
from procrastinate.contrib.django import app
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.signature import public_key, signer_of
from varlen.editions.verify import verify
from varlen.pipeline.document import from_json
from varlen_server.content_store import path_of
from varlen_server.editions.models import Edition
from varlen_server.editions.recovery import adopt_folders, restart_lost_jobs, retry_stalled_jobs
from varlen_server.editions.services import resume
from varlen_server.editions.tasks import make_edition

pytestmark = pytest.mark.django_db(transaction=True)
ORDER = {"variants": 2, "originals": True, "format": "coco", "image": "jpeg", "quality": 90}


@pytest.fixture
def edition(moths: Any, lamp_drift: dict[str, Any]) -> Edition:
    return Edition.objects.create(name="Trial", dataset=moths, document=from_json(lamp_drift).to_json(), order=ORDER, total=20)


@pytest.fixture
def expected(survey_folder: Path, lamp_drift: dict[str, Any], tmp_path: Path) -> str:
    return str(export(read_dataset(survey_folder), from_json(lamp_drift), tmp_path / "terminal", ExportSpec(variants=2))["output_digest"])


def work() -> None:
    """A worker that does what is waiting and ends."""
    worker = app.with_connector(app.connector.get_worker_connector())

    async def run() -> None:
        async with worker.open_async():
            await retry_stalled_jobs(worker, silent_seconds=0)
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
    kept = {path.name: path.stat().st_mtime_ns for path in edition.part.rglob("*.jpg")}
    work()
    edition.refresh_from_db()
    assert (edition.state, edition.done) == (Edition.State.DONE, 20), edition.message
    assert edition.output_digest == expected
    written = {path.name: path.stat().st_mtime_ns for path in edition.folder.rglob("*.jpg")}
    assert kept
    assert kept.items() <= written.items()  # what was there was not made again


def test_a_server_that_signs(edition: Edition, settings: Any) -> None:
    settings.SIGN_EDITIONS = True
    make_edition(edition_id=edition.pk)
    edition.refresh_from_db()
    key = settings.STATE / "signing-key.pub"
    assert verify(edition.folder, key=public_key(key)) == []
    assert edition.signed_by == signer_of(edition.folder) != ""
    (edition.folder / "signature.json").write_text(json.dumps({"public_key": edition.signed_by}))
    assert signer_of(edition.folder) == ""


def test_after_twenty_deaths_an_edition_has_stopped_and_can_be_started_again(edition: Edition, expected: str) -> None:
    job = make_edition.defer(edition_id=edition.pk)
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.WRITING)
    _mark_doing(job, attempts=20)
    work()
    edition.refresh_from_db()
    assert edition.state == Edition.State.STOPPED
    assert "died 20 times" in edition.message
    resume(edition.pk, leave_out=False)
    work()
    edition.refresh_from_db()
    assert (edition.state, edition.output_digest) == (Edition.State.DONE, expected)


def _mark_doing(job: int, attempts: int = 0) -> None:
    """Leave a job as a worker leaves it that was killed while doing it."""
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("insert into procrastinate_workers (last_heartbeat) values (now() - interval '1 hour') returning id")
        worker = cursor.fetchone()[0]
        cursor.execute("update procrastinate_jobs set status = 'doing', worker_id = %s, attempts = %s where id = %s", [worker, attempts, job])


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


def test_a_picture_gone_since_the_import_is_named_and_the_edition_goes_on_when_it_is_back(
    client: Any, edition: Edition, expected: str, settings: Any
) -> None:
    image = edition.dataset.images.filter(split="train").last()
    assert image is not None
    file = path_of(settings.PICTURES, image.sha256)
    content = file.read_bytes()
    file.unlink()
    make_edition(edition_id=edition.pk)
    edition.refresh_from_db()
    assert edition.state == Edition.State.STOPPED
    assert image.key in edition.message
    assert "its file is gone" in edition.message
    assert not edition.folder.exists()
    file.write_bytes(content)
    assert client.post(f"/api/editions/{edition.pk}/resume", {}, content_type="application/json").json()["state"] == "waiting"
    work()
    edition.refresh_from_db()
    assert (edition.state, edition.output_digest, edition.message) == (Edition.State.DONE, expected, "")


def test_or_it_is_left_out_if_its_user_says_so(client: Any, edition: Edition, settings: Any) -> None:
    image = edition.dataset.images.filter(split="test").get()
    path_of(settings.PICTURES, image.sha256).unlink()
    make_edition(edition_id=edition.pk)
    client.post(f"/api/editions/{edition.pk}/resume", {"leave_out": True}, content_type="application/json")
    work()
    edition.refresh_from_db()
    assert (edition.state, edition.done) == (Edition.State.DONE, 19)
    assert [(each["source"], each["variant"]) for each in edition.left_out] == [(image.key, 0)]


def test_an_edition_is_of_the_snapshot_it_was_ordered_of(client: Any, edition: Edition, lamp_drift: dict[str, Any]) -> None:
    ordered = post_order(client, edition.dataset.pk, lamp_drift)
    Edition.objects.filter(pk=ordered).update(dataset_digest="sha256:" + "0" * 64)
    work()
    found = Edition.objects.get(pk=ordered)
    assert found.state == Edition.State.STOPPED
    assert "was changed since this edition was ordered" in found.message


def post_order(client: Any, dataset: int, document: dict[str, Any]) -> int:
    answer = client.post("/api/editions", {"name": "Trial", "dataset": dataset, "document": document}, content_type="application/json")
    return int(answer.json()["id"])


def test_editions_are_found_again_from_their_folders(client: Any, edition: Edition, expected: str) -> None:
    make_edition(edition_id=edition.pk)
    kept = Edition.objects.get(pk=edition.pk)
    before = client.get(f"/api/editions/{edition.pk}").json()
    Edition.objects.all().delete()
    assert adopt_folders() == []
    again = client.get(f"/api/editions/{edition.pk}").json()
    same = ("output_digest", "counts", "statistics", "document", "order", "dataset", "dataset_digest", "pipeline_digest", "state", "done", "total")
    assert {name: again[name] for name in same} == {**{name: before[name] for name in same}, "dataset_digest": edition.dataset.digest,
                                                     "pipeline_digest": from_json(kept.document).digest}  # fmt: skip
    assert again["output_digest"] == expected
    assert Edition.objects.create(name="Next", dataset=edition.dataset, document={}, order={}).pk > edition.pk
    damaged = edition.folder.parent / f"edition-{edition.pk + 1000}"
    damaged.mkdir()
    (damaged / "edition.json").write_text("{")
    assert damaged.name in adopt_folders()[0]


def test_an_edition_whose_job_is_lost_gets_a_new_one(edition: Edition, expected: str) -> None:
    """As after a crash of the database in the middle of everything."""
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.WRITING)
    assert restart_lost_jobs() == 1
    assert restart_lost_jobs() == 0
    work()
    edition.refresh_from_db()
    assert (edition.state, edition.output_digest) == (Edition.State.DONE, expected)


def test_a_finished_edition_is_not_made_twice(edition: Edition) -> None:
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.DONE, output_digest="sha256:kept")
    make_edition(edition_id=edition.pk)
    edition.refresh_from_db()
    assert edition.output_digest == "sha256:kept"
    assert not edition.folder.exists()


def test_an_order_and_its_job_stand_or_fall_together(client: Any, moths: Any, lamp_drift: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    from varlen_server.editions import services

    def broken(**values: Any) -> int:
        raise RuntimeError("the queue is not there")

    monkeypatch.setattr(services.make_edition, "defer", broken)
    client.raise_request_exception = False
    order = {"name": "Trial", "dataset": moths.pk, "document": lamp_drift}
    assert client.post("/api/editions", order, content_type="application/json").status_code == 500
    assert Edition.objects.count() == 0


def test_nothing_to_put_back_is_nothing() -> None:
    worker = app.with_connector(app.connector.get_worker_connector())

    async def run() -> int:
        async with worker.open_async():
            return await retry_stalled_jobs(worker)

    assert asyncio.run(run()) == 0
