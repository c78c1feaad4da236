"""A whole Varlen in one file, made while it runs, and a Varlen made from such a file.

The file is a plain tar: the database as `pg_dump` writes it, then every file that cannot be made
again, at last a list with the SHA-256 of each. The database's copy comes first, and nothing is
deleted meanwhile: whatever it names is among the files. No Django here.
"""

from __future__ import annotations

import fcntl
import hashlib
import io
import json
import os
import subprocess
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO

from varlen._version import __version__


class Busy(Exception):
    """Something else is at it; the message says what."""


#: Beside everything else, so that every process of one Varlen finds the same.
LOCK = "keeping.lock"


@contextmanager
def deleting(state: Path) -> Iterator[None]:
    """Delete files within; any number may at once. Raises `Busy` while a backup is being made."""
    with _locked(state, fcntl.LOCK_SH):
        yield


@contextmanager
def backing_up(state: Path) -> Iterator[None]:
    """Nothing is deleted within. Raises `Busy` while something is, or another backup is made."""
    with _locked(state, fcntl.LOCK_EX):
        yield


@contextmanager
def _locked(state: Path, how: int) -> Iterator[None]:
    state.mkdir(parents=True, exist_ok=True)
    handle = os.open(state / LOCK, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        try:
            fcntl.flock(handle, how | fcntl.LOCK_NB)
        except BlockingIOError:
            raise Busy("A backup is being made, or something is being deleted; try again in a moment.") from None
        yield
    finally:
        os.close(handle)


FORM = 1
DATABASE, LIST = "database.dump", "backup.json"
#: What is kept of the folder, beside the database: small copies for the screen are made again.
KEPT = ("secret", "signing-key", "signing-key.pub", "pictures", "editions", "probes")
#: There in a state folder while a restore is under way: what lies beside it is half a Varlen.
UNFINISHED = "restore-unfinished"
BLOCK = 1 << 20
Say = Callable[[str], None]


class BackupError(Exception):
    """A backup that can't be made or used; the message says why."""


@dataclass(frozen=True)
class Database:
    """Where the database is, and the folder of its programs."""

    programs: Path
    about: dict[str, Any]

    def run(self, program: str, *options: str, **more: Any) -> None:
        """Run one of its programs on it. Raises `BackupError` with what that said."""
        where = ["-h", str(self.about["host"]), "-p", str(self.about["port"]), "-U", str(self.about["user"]), "-d", str(self.about["name"])]
        environment = {**os.environ, "PGPASSWORD": str(self.about["password"])}
        done = subprocess.run([self.programs / program, *where, *options], env=environment, stderr=subprocess.PIPE, text=True, **more)
        if done.returncode:
            raise BackupError(f"{program} failed: {done.stderr.strip()[-600:]}")


class _Hashed(io.RawIOBase):
    """Reads a file and reckons its digest on the way."""

    def __init__(self, file: BinaryIO) -> None:
        self.file, self.digest = file, hashlib.sha256()

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        data = self.file.read(size)
        self.digest.update(data)
        return data


def make_backup(state: Path, database: Database, target: Path, say: Say = print) -> dict[str, int]:
    """Write the backup of a state folder and check it; returns how many files and bytes. Raises `BackupError`, `Busy`."""
    if target.exists():
        raise BackupError(f"{target}: is there already")
    part = target.with_name(f".{target.name}.part")
    try:
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)  # it holds the key of sessions, and people's names
        with backing_up(state), os.fdopen(handle, "wb") as out, tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
            listed = _add_database(archive, database)
            for number, path in enumerate(_files(state), 1):
                listed[path.relative_to(state).as_posix()] = _add(archive, path, path.relative_to(state).as_posix())
                if number % 5000 == 0:
                    say(f"{number:,} files")
            _add_list(archive, listed)
            archive.close()
            out.flush()
            os.fsync(out.fileno())
        say("reading it again")
        found = check_backup(part)
        part.rename(target)
    except OSError as error:
        raise BackupError(f"{error.filename or target}: {error.strerror or error}") from None
    finally:
        part.unlink(missing_ok=True)
    return {"files": len(found["files"]), "bytes": target.stat().st_size}


def _add_database(archive: tarfile.TarFile, database: Database) -> dict[str, str]:
    with tempfile.NamedTemporaryFile() as dump:
        database.run("pg_dump", "--format=custom", "--no-owner", "--no-privileges", stdout=dump)
        return {DATABASE: _add(archive, Path(dump.name), DATABASE)}


def _files(state: Path) -> Iterator[Path]:
    """Every file to keep. What begins with a dot is on its way, or on its way out."""
    for name in KEPT:
        top = state / name
        if top.is_file():
            yield top
        for folder, folders, files in os.walk(top):
            folders[:] = sorted(each for each in folders if not each.startswith("."))
            yield from (Path(folder) / each for each in sorted(files) if not each.startswith("."))


def _add(archive: tarfile.TarFile, path: Path, name: str) -> str:
    """Add a file as it is at this moment; returns its SHA-256."""
    with path.open("rb") as file:
        about = tarfile.TarInfo(name)
        found = os.fstat(file.fileno())
        about.size, about.mtime, about.mode = found.st_size, int(found.st_mtime), found.st_mode & 0o777
        hashed = _Hashed(file)
        archive.addfile(about, hashed)
    return hashed.digest.hexdigest()


def _add_list(archive: tarfile.TarFile, files: dict[str, str]) -> None:
    made = {"varlen_backup": FORM, "varlen": __version__, "made": datetime.now(UTC).isoformat(timespec="seconds"), "files": files}
    text = json.dumps(made).encode()
    about = tarfile.TarInfo(LIST)
    about.size, about.mode = len(text), 0o600
    archive.addfile(about, io.BytesIO(text))


def check_backup(source: Path, take: Callable[[str, BinaryIO], None] | None = None) -> dict[str, Any]:
    """Read a backup to its end and compare every file with the list; `take` is given each. Returns the list. Raises `BackupError`."""
    found: dict[str, str] = {}
    listed: dict[str, Any] | None = None
    try:
        with tarfile.open(source, mode="r|") as archive:
            for member in archive:
                name = PurePosixPath(member.name)
                file = archive.extractfile(member) if member.isreg() else None
                if file is None or name.is_absolute() or ".." in name.parts or listed is not None:
                    raise BackupError(f"{source}: {member.name!r} does not belong into a backup")
                if member.name == LIST:
                    listed = json.loads(file.read())
                    continue
                hashed = _Hashed(file)  # type: ignore[arg-type]
                if take is not None:
                    take(member.name, hashed)  # type: ignore[arg-type]
                while hashed.read(BLOCK):
                    pass
                found[member.name] = hashed.digest.hexdigest()
    except (tarfile.TarError, EOFError, ValueError) as error:
        raise BackupError(f"{source}: not a backup, or damaged ({error})") from None
    if listed is None:
        raise BackupError(f"{source}: it ends before its end; it is not whole")
    if not isinstance(listed, dict) or not isinstance(listed.get("files"), dict):
        raise BackupError(f"{source}: not a backup; its list of files can't be read")
    if listed.get("varlen_backup") != FORM:
        raise BackupError(f"{source}: made by another version of Varlen ({listed.get('varlen', 'unknown')}), in a form this one can't read")
    wrong = sorted(name for name in found.keys() | listed["files"].keys() if found.get(name) != listed["files"].get(name))
    if wrong:
        raise BackupError(f"{source}: {len(wrong)} of its files are damaged or missing, such as {wrong[0]}")
    return listed


def unpack(source: Path, state: Path) -> Path:
    """Put a backup's files into an empty state folder; returns the database's copy, beside them. Raises `BackupError`."""
    dump = state / DATABASE

    def take(name: str, file: BinaryIO) -> None:
        first = PurePosixPath(name).parts[0]
        if name != DATABASE and first not in KEPT:
            raise BackupError(f"{source}: {name!r} does not belong into a backup")
        path = dump if name == DATABASE else state / name
        path.parent.mkdir(parents=True, exist_ok=True)
        private = name in ("secret", "signing-key", DATABASE)
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600 if private else 0o644), "wb") as out:
            while block := file.read(BLOCK):
                out.write(block)

    check_backup(source, take)
    return dump
