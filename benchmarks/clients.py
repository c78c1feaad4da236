"""Fifty people look while an edition is made: how long their answers take, compared with one person alone.

    python benchmarks/clients.py [CLIENTS] [SECONDS]

Starts a Varlen for a team of its own, with the demo.
"""

from __future__ import annotations

import asyncio
import os
import random
import shutil
import signal
import statistics
import subprocess
import sys
import time
from pathlib import Path

import httpx

PROJECT = Path(__file__).resolve().parent.parent
STATE = PROJECT / ".varlen" / "clients-bench"
AT = "http://127.0.0.1:8660"
#: A person looks at what came before asking for more, seconds.
LOOKS = (1.0, 3.0)
ACCOUNTS = """
from django.contrib.auth.models import User
from varlen_server.people.models import StepTransform
for number in range({count}):
    if not User.objects.filter(username=f"person{{number}}").exists():
        StepTransform.objects.create(user=User.objects.create_user(f"person{{number}}", password="lamp at the window"), role="work")
"""


def start() -> subprocess.Popen[str]:
    shutil.rmtree(STATE, ignore_errors=True)
    command = [sys.executable, PROJECT / "scripts" / "start.py", "--sign-in", "--address", AT.removeprefix("http://")]
    environment = {**os.environ, "VARLEN_STATE": str(STATE), "VARLEN_DEMO_ALONE": "1"}
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    assert process.stdout is not None
    if not any("/join#" in line for line in process.stdout):
        sys.exit("it did not start")
    return process


class Person:
    """Somebody with a browser: opens pages, looks at rows of the sheet, moves a slider now and then."""

    def __init__(self, number: int, times: list[tuple[str, float]], errors: list[str]) -> None:
        self.number, self.times, self.errors = number, times, errors
        self.chance = random.Random(number)

    async def live(self, until: float, seconds: float, images: list[int], document: dict, dataset: int) -> None:
        async with httpx.AsyncClient(base_url=AT, headers={"Origin": AT}, timeout=60) as client:
            answer = await client.post("/api/session", json={"name": f"person{self.number}", "password": "lamp at the window"})
            answer.raise_for_status()
            await asyncio.sleep(max(0.0, until - seconds - time.monotonic()) + self.chance.uniform(0, LOOKS[1]))
            while time.monotonic() < until:
                await self._look(client, images, document, dataset)
                await asyncio.sleep(self.chance.uniform(*LOOKS))

    async def _look(self, client: httpx.AsyncClient, images: list[int], document: dict, dataset: int) -> None:
        what = self.chance.choices(["page", "row", "editions", "ledger", "turned"], [2, 5, 2, 1, 1])[0]
        begun = time.perf_counter()
        try:
            if what == "page":
                answer = await client.get("/")
            elif what == "editions":
                answer = await client.get("/api/editions")
            elif what == "ledger":
                answer = await client.post("/api/ledger", json={"dataset": dataset, "document": document, "variants": 3, "originals": True})
            else:
                wanted = document if what == "row" else {**document, "seed": self.chance.randrange(1000)}
                body = {"dataset": dataset, "document": wanted, "images": [self.chance.choice(images)], "variants": 4, "width": 320}
                answer = await client.post("/api/sheet", json=body)
            if answer.status_code != 200:
                self.errors.append(f"{what}: {answer.status_code} {answer.text[:100]}")
        except httpx.HTTPError as error:
            self.errors.append(f"{what}: {type(error).__name__}")
        self.times.append((what, time.perf_counter() - begun))


async def looking(people: int, seconds: float, export: bool) -> tuple[list[tuple[str, float]], list[str]]:
    times: list[tuple[str, float]] = []
    errors: list[str] = []
    async with httpx.AsyncClient(base_url=AT, headers={"Origin": AT}, timeout=60) as client:
        (await client.post("/api/session", json={"name": "person0", "password": "lamp at the window"})).raise_for_status()
        dataset = (await client.get("/api/datasets")).json()[0]["id"]
        document = (await client.get(f"/api/pipelines/{(await client.get('/api/pipelines')).json()[0]['id']}")).json()["document"]
        images = [row["id"] for row in (await client.get(f"/api/datasets/{dataset}/rows", params={"count": 12, "split": "train"})).json()]
        for image in images:  # what everybody looks at was looked at before
            await client.post("/api/sheet", json={"dataset": dataset, "document": document, "images": [image], "variants": 4, "width": 320})
        if export:
            made = await client.post("/api/editions", json={"name": "meanwhile", "dataset": dataset, "document": document, "variants": 400})
            made.raise_for_status()
        until = time.monotonic() + seconds + people / 10  # signing in comes first
        await asyncio.gather(*(Person(number, times, errors).live(until, seconds, images, document, dataset) for number in range(people)))
        if export:
            state = (await client.get(f"/api/editions/{made.json()['id']}")).json()
            print(f"the edition meanwhile: {state['state']}, {state['done']} of {state['total']} images")
    return times, errors


def say(name: str, times: list[tuple[str, float]], errors: list[str]) -> tuple[float, float]:
    taken = sorted(seconds for _, seconds in times)
    median, late = statistics.median(taken), taken[int(0.95 * len(taken))]
    by_kind = {kind: statistics.median([seconds for what, seconds in times if what == kind]) for kind in sorted({what for what, _ in times})}
    print(f"{name}: {len(taken)} answers, {len(errors)} errors, median {1000 * median:.0f} ms, 95 % within {1000 * late:.0f} ms;",
          ", ".join(f"{kind} {1000 * seconds:.0f}" for kind, seconds in by_kind.items()))  # fmt: skip
    for error in errors[:5]:
        print("  ", error)
    return median, late


def main() -> None:
    people, seconds = int(sys.argv[1]) if len(sys.argv) > 1 else 50, float(sys.argv[2]) if len(sys.argv) > 2 else 60.0
    process = start()
    try:
        told = ACCOUNTS.format(count=people)
        environment = {**os.environ, "VARLEN_STATE": str(STATE)}
        subprocess.run([sys.executable, "manage.py", "shell", "-v", "0", "-c", told], cwd=PROJECT / "server", env=environment, check=True)
        alone = say("one alone", *asyncio.run(looking(1, seconds, export=False)))
        many = say(f"{people} with an export", *asyncio.run(looking(people, seconds, export=True)))
        print(f"median {many[0] / alone[0]:.1f} × (≤ 3), 95 % {many[1] / alone[1]:.1f} × (≤ 6)")
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)
        shutil.rmtree(STATE, ignore_errors=True)


if __name__ == "__main__":
    main()
