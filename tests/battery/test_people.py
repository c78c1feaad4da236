"""Fifty people at work for a minute while an edition is made: nobody meets an error, and nobody waits longer than a fair share."""

from __future__ import annotations

import json
import os
import random
import shutil
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from tests.conftest import PROJECT
from tests.server.test_crash import Running

PEOPLE, SECONDS = 50, 60.0
#: The 99th percentile may be so many times a fair share of the processors.
TIMES = 3.0


def test_fifty_people_and_an_edition(survey_folder: Path, lamp_drift: dict[str, Any]) -> None:
    state = PROJECT / ".varlen" / "people-test"
    shutil.rmtree(state, ignore_errors=True)
    shutil.copytree(survey_folder, state / "demo" / "night-moth-survey")
    running = Running(state)
    try:
        requests = _requests(running, lamp_drift)
        alone = {name: _alone(ask) for name, ask in requests.items()}
        edition = running.call("/api/editions", {"name": "Meanwhile", "dataset": 1, "document": lamp_drift, "variants": 400, "originals": False})[
            "id"
        ]
        times: dict[str, list[float]] = {name: [] for name in requests}
        errors: list[str] = []
        until = time.monotonic() + SECONDS
        people = [threading.Thread(target=_works, args=[requests, times, errors, until, number]) for number in range(PEOPLE)]
        for person in people:
            person.start()
        for person in people:
            person.join()
        running.call(f"/api/editions/{edition}/cancel", {})
        rows = []
        for name, found in times.items():
            limit = TIMES * PEOPLE * alone[name] / (os.cpu_count() or 1)
            rows.append((name, len(found), alone[name], float(np.percentile(found, 50)), float(np.percentile(found, 99)), limit))
        print(f"\n{'request':20} count  alone    50 %    99 %   limit (s)")
        for name, count, one, middle, high, limit in rows:
            print(f"{name:20} {count:5} {one:6.3f} {middle:7.3f} {high:7.3f} {limit:7.3f}")
        assert errors == []
        assert [name for name, *_, high, limit in rows if high > limit] == []
    finally:
        running.stop()
        shutil.rmtree(state, ignore_errors=True)


def _requests(running: Running, document: dict[str, Any]) -> dict[str, Callable[[], Any]]:
    """What a person asks for, each another picture or seed."""
    images = running.call("/api/datasets/1/images?count=50")["images"]
    draw = random.Random(1)

    def tiles() -> Any:
        wanted = {"images": [draw.choice(images)["id"]], "variants": 4, "width": 240}
        return running.call("/api/sheet", {"dataset": 1, "document": {**document, "seed": draw.randrange(1000)}, **wanted})

    return {
        "list of datasets": lambda: running.call("/api/datasets"),
        "a wall of images": lambda: running.call(f"/api/datasets/1/images?count=40&offset={draw.randrange(8)}"),
        "an image": lambda: running.call(f"/api/images/{draw.choice(images)['id']}"),
        "four tiles": tiles,
        "a forecast": lambda: running.call("/api/forecast", {"dataset": 1, "document": {**document, "seed": draw.randrange(10**6)}, "draws": 200}),
    }


def _alone(ask: Callable[[], Any], tries: int = 9) -> float:
    taken = []
    for _ in range(tries):
        begun = time.monotonic()
        ask()
        taken.append(time.monotonic() - begun)
    return float(np.median(taken))


def _works(requests: dict[str, Callable[[], Any]], times: dict[str, list[float]], errors: list[str], until: float, number: int) -> None:
    draw = random.Random(number)
    while time.monotonic() < until:
        name = draw.choice(list(requests))
        begun = time.monotonic()
        try:
            requests[name]()
            times[name].append(time.monotonic() - begun)
        except Exception as error:
            errors.append(f"{name}: {error} {json.dumps(str(getattr(error, 'reason', '')))}")
        time.sleep(draw.uniform(0.0, 0.4))
