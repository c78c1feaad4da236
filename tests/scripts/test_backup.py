"""Backup and restore, as `make` runs them: on a real database and real files, while things happen, and with damaged files."""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import signal
import subprocess
import sys
import tarfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from varlen_server.backups import LIST, BackupError, Busy, backing_up, check_backup, deleting, unpack

PROJECT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(PROJECT / "scripts"))

from one_of_us import alone  # noqa: E402, a script's module

#: Everything that a page shows, asked of the application itself.
PAGES = """
import hashlib, json, re
from django.test import Client
from varlen.editions.verify import verify
from varlen_server.datasets.models import Dataset, Image
from varlen_server.editions.models import Edition
client = Client(HTTP_HOST="127.0.0.1")
addresses = ["/api/datasets", "/api/pipelines", "/api/pipelines/1", "/api/pipelines/1/revisions", "/api/editions", "/api/editions/1",
             "/api/editions/1/images", "/api/editions/1/images/1", "/api/editions/1/scores", "/api/trials", "/api/inquiries"]
for row in Dataset.objects.all():
    addresses += [f"/api/datasets/{row.pk}/{page}" for page in ("overview", "findings", "images", "rows")]
for image in Image.objects.all():
    addresses += [f"/api/images/{image.pk}", f"/api/pictures/{image.sha256}/320.jpg"]
answers = {address: client.get(address) for address in addresses}
assert {answer.status_code for answer in answers.values()} == {200}, [a for a, answer in answers.items() if answer.status_code != 200]
# Where an edition lies is where the state folder is.
pages = {
    address: hashlib.sha256(re.sub(rb'"path":"[^"]*"', b"", answer.content) if address.startswith("/api/editions") else answer.content).hexdigest()
    for address, answer in answers.items()
}
pages["verify"] = answers["/api/editions/1"].json()["output_digest"]
assert list(verify(Edition.objects.get(pk=1).folder)) == []
print(json.dumps(pages))
"""
FORGOTTEN = """
from varlen_server.datasets.models import Dataset
Dataset.objects.filter(name="Meanwhile").delete()
"""
ADOPTED = """
from django.contrib.auth import authenticate
from varlen_server.editions.models import Edition
from varlen_server.editions.recovery import adopt_folders
print(authenticate(username="luna", password="lamp at the window"))
Edition.objects.all().delete()
assert adopt_folders() == []
print(Edition.objects.get().name)
"""
FILL = """
import json, pathlib
from django.contrib.auth.models import User
from varlen.datasets.edits import Edit
from varlen.editions.export_spec import ExportSpec
from varlen.editions.scores import Score, attach
from varlen_server.datasets.edits import apply_edits
from varlen_server.datasets.tasks import scan_pixels
from varlen_server.datasets.services import import_dataset
from varlen_server.editions.services import order_edition
from varlen_server.editions.tasks import make_edition
from varlen_server.people.models import Member
from varlen_server.pipelines.models import create
folder = pathlib.Path({folder!r})
dataset = import_dataset(folder, "Night moth survey", source=str(folder))
scan_pixels(dataset)
apply_edits(dataset, [Edit("move", dataset.images.filter(split="train").first().key, "", "validation")], "")
dataset.refresh_from_db()
document = json.loads((folder / "pipelines" / "lamp-drift.varlen.json").read_text())
edition = order_edition("Kept by name", dataset, document, ExportSpec(1), create(document))
make_edition(edition_id=edition.pk)
attach(edition.folder, [Score("mAP50", 0.61)])
Member.objects.create(user=User.objects.create_user("luna", password="lamp at the window"), role="admin")
"""


def shell(state: Path, text: str) -> str:
    environment = {**os.environ, "VARLEN_STATE": str(state)}
    done = subprocess.run([sys.executable, "manage.py", "shell", "-v", "0", "-c", text], cwd=PROJECT / "server", env=environment,
                          capture_output=True, text=True, check=False)  # fmt: skip
    assert done.returncode == 0, done.stderr[-3000:]
    return done.stdout


def backup(state: Path, *words: str) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "VARLEN_STATE": str(state)}
    command = [sys.executable, PROJECT / "scripts" / "backup.py", *words]
    return subprocess.run(command, env=environment, capture_output=True, text=True, check=False)


def database(state: Path, action: str) -> None:
    subprocess.run([sys.executable, PROJECT / "scripts" / "postgres.py", action, "--state", state / "database"], check=True, capture_output=True)


@pytest.fixture(scope="module")
def running(survey_folder: Path) -> Iterator[Path]:
    """A Varlen whose database runs, with something of everything in it."""
    state = PROJECT / ".varlen" / "backup-test"
    for each in state.parent.glob("backup-test*"):
        shutil.rmtree(each, ignore_errors=True)
    database(state, "start")
    subprocess.run(
        [sys.executable, "manage.py", "migrate", "--verbosity", "0"],
        cwd=PROJECT / "server",
        env={**os.environ, "VARLEN_STATE": str(state)},
        check=True,
    )
    shell(state, FILL.format(folder=str(survey_folder)))
    yield state
    database(state, "stop")
    for each in state.parent.glob("backup-test*"):
        shutil.rmtree(each, ignore_errors=True)


def test_restored_elsewhere_every_page_is_the_same(running: Path, tmp_path: Path) -> None:
    """Made while a further dataset comes in; then moved to another folder, as to another machine."""
    saved = tmp_path / "moths.tar"
    before: dict[str, Any] = json.loads(shell(running, PAGES))
    more = threading.Thread(target=shell, args=[running, "import varlen_server.datasets.services as s, pathlib\n"
                                                f"s.import_dataset(pathlib.Path({str(_source(running))!r}), 'Meanwhile')"])  # fmt: skip
    more.start()
    made = backup(running, "backup", str(saved))
    more.join()
    assert made.returncode == 0, made.stderr
    assert "checked" in made.stdout
    assert saved.stat().st_mode & 0o077 == 0
    assert backup(running, "backup", str(saved)).stderr.strip().endswith("is there already")
    shell(running, FORGOTTEN)

    other = running.with_name("backup-test-other")
    restored = backup(other, "restore", str(saved))
    assert restored.returncode == 0, restored.stderr
    assert backup(other, "restore", str(saved)).returncode == 1
    database(other, "start")
    try:
        # Whatever had come of the further dataset by then is no part of the comparison.
        assert json.loads(shell(other, FORGOTTEN + PAGES)) == before
        # The database alone lost, the edition comes back under its name with its scores.
        assert shell(other, ADOPTED).split("\n")[:2] == ["luna", "Kept by name"]
    finally:
        database(other, "stop")


def _source(state: Path) -> str:
    return shell(state, "from varlen_server.datasets.models import Dataset\nprint(Dataset.objects.first().source)").strip()


def test_a_damaged_backup_is_refused_and_leaves_nothing(running: Path, tmp_path: Path) -> None:
    saved, other = tmp_path / "moths.tar", running.with_name("backup-test-damaged")
    assert backup(running, "backup", str(saved)).returncode == 0
    whole = saved.read_bytes()
    turned = bytearray(whole)
    turned[len(whole) // 2] ^= 1
    for name, data in (("turned", bytes(turned)), ("cut", whole[: len(whole) * 2 // 3]), ("other", b"a picture, say" * 100), ("empty", b"")):
        wrong = tmp_path / f"{name}.tar"
        wrong.write_bytes(data)
        done = backup(other, "restore", str(wrong))
        assert done.returncode == 1, name
        assert len(done.stderr.strip().split("\n")) == 1, done.stderr
        assert not other.exists() or not [path for path in other.iterdir() if path.name in ("secret", "pictures", "editions", "database.dump")]


def _forged(path: Path, members: list[tuple[tarfile.TarInfo, bytes]], listed: object) -> Path:
    with tarfile.open(path, "w") as archive:
        for about, data in [*members, (tarfile.TarInfo(LIST), json.dumps(listed).encode())]:
            about.size = len(data)
            archive.addfile(about, io.BytesIO(data))
    return path


def _member(name: str, kind: bytes = tarfile.REGTYPE, to: str = "") -> tarfile.TarInfo:
    about = tarfile.TarInfo(name)
    about.type, about.linkname = kind, to
    return about


FORGED = {
    "out of the folder": [_member("../outside")], "from the root": [_member("/tmp/outside")], "deep out": [_member("pictures/../../outside")],
    "a link": [_member("pictures", tarfile.SYMTYPE, "/tmp"), _member("pictures/outside")],
    "a hard link": [_member("pictures/a", tarfile.LNKTYPE, "/etc/passwd")],
    "a pipe": [_member("pictures/a", tarfile.FIFOTYPE)], "a device": [_member("pictures/a", tarfile.CHRTYPE)],
    "twice": [_member("pictures/a"), _member("pictures/a")], "a file for a folder": [_member("pictures"), _member("pictures/a")],
    "something else": [_member("bin/sh")], "a name with NUL": [_member("pictures/a\0b")], "a long name": [_member("pictures/" + "n" * 300)],
}  # fmt: skip


@pytest.mark.parametrize("what", FORGED)
def test_a_forged_backup_writes_nowhere_else(tmp_path: Path, what: str) -> None:
    state = tmp_path / "deep" / "state"
    state.mkdir(parents=True)
    names = {about.name: hashlib.sha256(b"").hexdigest() for about in FORGED[what]}
    source = _forged(tmp_path / "x.tar", [(about, b"") for about in FORGED[what]], {"varlen_backup": 1, "files": names})
    with pytest.raises((BackupError, OSError, ValueError)):
        unpack(source, state)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["deep", "x.tar"]
    assert [path.name for path in (tmp_path / "deep").iterdir()] == ["state"]
    assert not Path("/tmp/outside").exists()


@pytest.mark.parametrize("listed", [[], {}, {"varlen_backup": 1}, {"varlen_backup": 1, "files": []}, {"varlen_backup": 9, "files": {}}, "so", None])
def test_a_list_that_is_none(tmp_path: Path, listed: object) -> None:
    with pytest.raises(BackupError):
        check_backup(_forged(tmp_path / "x.tar", [], listed))


def test_a_backup_on_a_full_disk_leaves_nothing(running: Path, tmp_path: Path) -> None:
    """A limit on the size of files stands for the disk's end."""
    command = f"ulimit -f 40; exec '{sys.executable}' '{PROJECT / 'scripts' / 'backup.py'}' backup '{tmp_path / 'x.tar'}'"
    done = subprocess.run(["bash", "-c", command], env={**os.environ, "VARLEN_STATE": str(running)}, capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert len(done.stderr.strip().splitlines()) == 1, done.stderr
    assert list(tmp_path.iterdir()) == []


def test_a_restore_that_was_killed_is_known_and_done_again(running: Path, tmp_path: Path) -> None:
    """Killed on its way: nothing starts on what it left, and the same command makes a whole one of it."""
    saved, other = tmp_path / "moths.tar", running.with_name("backup-test-killed")
    assert backup(running, "backup", str(saved)).returncode == 0
    environment = {**os.environ, "VARLEN_STATE": str(other)}
    for seconds in (0.8, 2.5) if os.environ.get("VARLEN_BATTERY") else (1.5,):
        command = [sys.executable, PROJECT / "scripts" / "backup.py", "restore", str(saved)]
        process = subprocess.Popen(command, env=environment, start_new_session=True, stderr=subprocess.PIPE)
        # Killed once it has begun; a slow machine needs longer to get there.
        while not (other / "restore-unfinished").exists():
            time.sleep(0.02)
        time.sleep(seconds)
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        assert (other / "restore-unfinished").exists(), "it had ended already: kill it sooner"
        started = subprocess.run([sys.executable, PROJECT / "scripts" / "start.py"], env=environment, capture_output=True, text=True, timeout=60)
        assert started.returncode == 1
        assert f"a restore from {saved} did not end" in started.stderr
    done = backup(other, "restore", str(saved))
    assert done.returncode == 0, done.stderr
    database(other, "start")
    try:
        assert json.loads(shell(other, PAGES)) == json.loads(shell(running, PAGES))
    finally:
        database(other, "stop")


def test_two_of_one_folder_wait_for_each_other_or_are_refused(running: Path, tmp_path: Path) -> None:
    with alone(running / "backup.lock", ""):
        assert "another backup or restore" in backup(running, "backup", str(tmp_path / "x.tar")).stderr
    with alone(tmp_path / "running", ""):
        command = [sys.executable, PROJECT / "scripts" / "start.py"]
        done = subprocess.run(command, env={**os.environ, "VARLEN_STATE": str(tmp_path)}, capture_output=True, text=True, timeout=60)
    assert done.returncode == 1
    assert "is running already" in done.stderr


def test_a_backup_where_there_is_no_room_or_nothing(running: Path, tmp_path: Path) -> None:
    assert "there is no Varlen here" in backup(tmp_path / "empty", "backup", str(tmp_path / "x.tar")).stderr
    gone = backup(running, "backup", str(tmp_path / "no" / "such" / "x.tar"))
    assert gone.returncode == 1
    assert "No such file or directory" in gone.stderr
    in_use = backup(running, "restore", str(tmp_path / "x.tar"), "--replace")
    assert "is in use: stop it first" in in_use.stderr


def test_nothing_is_deleted_while_a_backup_is_made(tmp_path: Path) -> None:
    with deleting(tmp_path), deleting(tmp_path), pytest.raises(Busy), backing_up(tmp_path):
        pass
    with backing_up(tmp_path), pytest.raises(Busy), deleting(tmp_path):
        pass
    with deleting(tmp_path):
        pass


PEOPLE = """
from django.contrib.auth import authenticate
from varlen_server.people.models import Member, Token
roles = {each.user.username: each.role for each in Member.objects.all()}
print(roles, sorted(each.scope for each in Token.objects.all()), authenticate(username="luna", password="lamp at the window"))
"""


def test_a_backup_of_version_0_1_is_restored_and_every_page_answers() -> None:
    """With its people under today's roles, and an edition that verifies."""
    other = PROJECT / ".varlen" / "backup-test-past"
    shutil.rmtree(other, ignore_errors=True)
    done = backup(other, "restore", str(Path(__file__).parent / "kept" / "version-0.1.backup.tar"))
    assert done.returncode == 0, done.stderr
    database(other, "start")
    try:
        assert json.loads(shell(other, PAGES))["verify"].startswith("sha256:")
        assert shell(other, PEOPLE).strip() == "{'ada': 'viewer', 'ben': 'editor', 'luna': 'admin'} ['read', 'scores', 'write'] luna"
    finally:
        database(other, "stop")
        shutil.rmtree(other, ignore_errors=True)
