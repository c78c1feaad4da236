"""Back up this Varlen into one file, while it runs or not; make one from such a file.

    make backup FILE=moths.tar
    make restore FILE=moths.tar     into an empty state folder; REPLACE=1 sets the one that is there aside

Run with the environment's own Python.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import postgres
from one_of_us import alone
from varlen_server.backups import DATABASE, UNFINISHED, BackupError, Busy, Database, make_backup, unpack

PROJECT = Path(__file__).resolve().parent.parent
STATE = Path(os.environ.get("VARLEN_STATE") or PROJECT / ".varlen").absolute()
#: What makes a state folder one that is in use.
SIGNS = ("database", "pictures", "editions", "secret")


@contextmanager
def running_database() -> Iterator[Database]:
    """The database of this state folder, started for as long as it is needed where it does not run."""
    with postgres.locked(STATE / "database"):
        cluster = postgres.Cluster(STATE / "database", False)
        ran = cluster.server_pid() is not None
        about = cluster.start()
    try:
        yield Database(postgres.binaries(), about)
    finally:
        if not ran:
            with postgres.locked(STATE / "database"):
                cluster.stop()


def backup(target: Path) -> None:
    begun = time.monotonic()
    with running_database() as database:
        made = make_backup(STATE, database, target, print)
    print(f"{target}: {made['files']:,} files, {made['bytes'] / 1e6:,.1f} MB, checked, in {time.monotonic() - begun:.0f} s")


def restore(source: Path, replace: bool) -> None:
    there = [name for name in SIGNS if (STATE / name).exists()]
    mark = STATE / UNFINISHED
    half = mark.exists()
    if there and not replace and not half:
        raise BackupError(f"{STATE} is not empty: restore into another (VARLEN_STATE=DIR), or set this one aside with REPLACE=1")
    if half:
        clear()  # a whole Varlen never bears the mark
    elif there:
        set_aside()
    STATE.mkdir(parents=True, exist_ok=True)
    mark.write_text(f"{source.absolute()}\n")
    try:
        dump = unpack(source, STATE)
        with running_database() as database:
            database.run("pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", str(dump))
            dump.unlink()
            environment = {**os.environ, "VARLEN_STATE": str(STATE)}
            if subprocess.run([sys.executable, "manage.py", "prepare"], cwd=PROJECT / "server", env=environment).returncode:
                raise BackupError("bringing the restored database up to date failed")
    except BaseException:
        clear()  # half a Varlen would be taken for a whole one
        raise
    mark.unlink()
    print(f"{STATE}: restored from {source}")


def clear() -> None:
    """Remove what a restore that did not end has left, its database first, which may still run."""
    cluster = postgres.Cluster(STATE / "database", False)
    if cluster.server_pid() is not None:
        cluster.stop()
    if cluster.data.exists() and not cluster.data.is_relative_to(STATE):
        shutil.rmtree(cluster.data, ignore_errors=True)
    for name in (*SIGNS, "probes", DATABASE, UNFINISHED):
        path = STATE / name
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)


def set_aside() -> None:
    """Give what is there another name. Raises `BackupError` while it runs."""
    cluster = postgres.Cluster(STATE / "database", False)
    if cluster.server_pid() is not None:
        raise BackupError(f"{STATE} is in use: stop it first ('make stop', or Ctrl-C where it runs)")
    aside = STATE.with_name(f"{STATE.name}.before-{time.strftime('%Y%m%d-%H%M%S')}")
    aside.mkdir()
    moved = [*SIGNS, "probes", "tiles", "uploads", "demo", "metrics"]
    for name in moved:
        if (STATE / name).exists():
            (STATE / name).rename(aside / name)
    # Where the database's own user can't reach the state folder, its files lie elsewhere, under the folder's name.
    if cluster.data.exists() and not cluster.data.is_relative_to(STATE):
        shutil.move(str(cluster.data), str(aside / "database-files"))
    print(f"what was there is now in {aside}")


def main() -> int:
    parser = argparse.ArgumentParser(description="Back up this Varlen, or make one from a backup")
    parser.add_argument("action", choices=["backup", "restore"])
    parser.add_argument("file", type=Path)
    parser.add_argument("--replace", action="store_true")
    options = parser.parse_args()
    try:
        if options.action == "backup" and not (STATE / "database").is_dir():
            raise BackupError(f"{STATE}: there is no Varlen here")
        with alone(STATE / "backup.lock", f"another backup or restore of {STATE} is under way"):
            if options.action == "backup":
                backup(options.file)
            else:
                restore(options.file, options.replace)
    except (BackupError, Busy, postgres.ReadProblems, OSError) as error:
        print(f"{options.action}: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
