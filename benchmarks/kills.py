"""Database, worker, web server and a web process are killed in turn while editions are made: seconds until each is back, and the digests.

python benchmarks/kills.py [KILLS]
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
STATE = PROJECT / ".varlen" / "kills-bench"
AT = "http://127.0.0.1:8670"
#: Between two kills, so that one part dies no more than twice a minute.
REST = 8.0


def ask(path: str, body: object = None) -> dict:
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(AT + path, data, {"Content-Type": "application/json"})
    with urllib.request.urlopen(request, timeout=30) as answer:
        return json.load(answer)


def patiently(path: str, body: object = None) -> dict:
    """The same, asked again while something is being started."""
    for _ in range(100):
        with contextlib.suppress(OSError, ValueError):
            return ask(path, body)
        time.sleep(0.3)
    sys.exit(f"{path}: no answer")


def children(parent: int) -> dict[int, str]:
    listed = subprocess.run(["ps", "-o", "pid=,ppid=,args=", "-A"], capture_output=True, text=True, check=True).stdout
    rows = [line.split(None, 2) for line in listed.splitlines()]
    return {int(pid): args for pid, above, args in rows if int(above) == parent}


def victim(kind: str, supervisor: int) -> int:
    ours = children(supervisor)
    web = next(pid for pid, args in ours.items() if "gunicorn" in args)
    if kind == "web server":
        return web
    if kind == "web process":
        return next(iter(children(web)))
    if kind == "worker":
        return next(pid for pid, args in ours.items() if "manage.py work" in args)
    port = json.loads((STATE / "database" / "database.json").read_text())["port"]
    return int(subprocess.run(["pgrep", "-f", "--", f"port={port}"], capture_output=True, text=True, check=True).stdout.split()[0])


def back() -> float:
    """Seconds until a page that needs everything is answered."""
    begun = time.monotonic()
    while True:
        with contextlib.suppress(OSError, ValueError):
            ask("/api/editions")
            if ask("/healthz")["worker"]:
                return time.monotonic() - begun
        if time.monotonic() - begun > 60:
            sys.exit("not back within a minute; .varlen/kills.log says why")
        time.sleep(0.05)


def main() -> None:
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    for each in ("database", "pictures", "editions", "tiles"):
        shutil.rmtree(STATE / each, ignore_errors=True)
    command = [sys.executable, PROJECT / "scripts" / "start.py", "--address", AT.removeprefix("http://")]
    environment = {**os.environ, "VARLEN_STATE": str(STATE), "VARLEN_DEMO_ALONE": "1"}
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=(PROJECT / ".varlen" / "kills.log").open("w"), text=True)
    assert process.stdout is not None
    assert any("http://" in line for line in process.stdout)
    dataset = ask("/api/datasets")[0]["id"]
    document = ask(f"/api/pipelines/{ask('/api/pipelines')[0]['id']}")["document"]
    order = {"dataset": dataset, "document": document, "variants": 12}
    wanted = _done(ask("/api/editions", {**order, "name": "undisturbed"})["id"])
    times: list[tuple[str, float]] = []
    digests, edition = [], patiently("/api/editions", {**order, "name": "disturbed"})["id"]
    for number in range(kills):
        kind = ("worker", "web process", "database", "web server")[number % 4]
        os.kill(victim(kind, process.pid), signal.SIGKILL)
        time.sleep(0.05)
        times.append((kind, back()))
        time.sleep(REST)
        if patiently(f"/api/editions/{edition}")["state"] == "done":
            digests.append(_done(edition))
            edition = patiently("/api/editions", {**order, "name": f"disturbed {number}"})["id"]
    digests.append(_done(edition))
    same = sum(digest == wanted for digest in digests)
    for kind in dict.fromkeys(kind for kind, _ in times):
        taken = [seconds for each, seconds in times if each == kind]
        print(f"{kind:<12} killed {len(taken)} times, back within {max(taken):.1f} s")
    print(f"{same} of {len(digests)} editions have the digest of the undisturbed one")
    process.send_signal(signal.SIGINT)
    process.wait(60)


def _done(edition: int) -> str:
    while True:
        found = patiently(f"/api/editions/{edition}")
        if found["state"] == "done":
            return str(found["output_digest"])
        if found["state"] not in ("waiting", "writing"):
            sys.exit(f"the edition ended as {found['state']}: {found['message']}")
        time.sleep(0.5)


if __name__ == "__main__":
    main()
