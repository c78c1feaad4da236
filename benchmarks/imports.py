"""Bringing datasets in through the running server: rate against hashing and headers alone, memory, and the wall afterwards."""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

import orjson
from PIL import Image

from benchmarks.timing import Table

PROJECT = Path(__file__).resolve().parent.parent
MANY, FEW = 20_000, 1_000
RATED = 2_000
_PAGES = {
    "overview, first": "overview",
    "overview, again": "overview?again",
    "a page of the wall, in the middle": "images?offset=10000&count=60",
    "a page, by class and size of object": "images?class=ash+veil&side=3-20&offset=5000&count=60",
}


def measure(survey: Path) -> Table:
    state = PROJECT / ".varlen" / "bench-imports"
    shutil.rmtree(state, ignore_errors=True)
    shutil.copytree(survey, state / "demo" / "night-moth-survey")
    sources = state / "sources"
    table = Table("Bringing a dataset in, through the server's job and its database, 2 cores", "what", "measured", "target")
    environment = {**os.environ, "VARLEN_STATE": str(state), "VARLEN_FOLDERS": str(sources), "VARLEN_DEMO_ALONE": "1"}
    sources.mkdir()
    _write(survey, sources / "boxes", RATED, keep=("bbox",))
    _write(survey, sources / "all labels", RATED, keep=("bbox", "segmentation", "keypoints"))
    _write(survey, sources / "few", FEW, keep=("bbox",), small=True)
    _write(survey, sources / "many", MANY, keep=("bbox",), small=True)
    server = subprocess.Popen(
        [sys.executable, PROJECT / "scripts" / "start.py", "--port", "8700"], env=environment, stdout=subprocess.PIPE, text=True
    )
    try:
        assert server.stdout is not None
        address = next(line.split()[3].rstrip("/") for line in server.stdout if "http://" in line)
        time.sleep(30)  # until the worker has its processes ready, which it does when the server has settled
        for name, target in (("boxes", "≥ 0.8"), ("all labels", "≥ 0.6")):
            alone = _hash_and_look(sources / name)
            seconds, _ = _bring(address, sources / name)
            table.add(f"{RATED} images of 960×720 px, {name}: rate against hashing and reading headers alone", alone / seconds, target)
            table.add(f"{RATED} images of 960×720 px, {name}: images a second", RATED / seconds, "")
        _bring(address, sources / "few")
        before = _peak(server)
        seconds, large = _bring(address, sources / "many")
        table.add(f"worker's memory after {FEW} images, MB", before, "")
        table.add(f"worker's memory after {MANY} images (boxes), MB", _peak(server), "bounded")
        table.add(f"{MANY} images of 48×36 px: images a second", MANY / seconds, "")
        for what, path in _PAGES.items():
            start = time.perf_counter()
            _get(f"{address}/api/datasets/{large}/{path}")
            table.add(f"{MANY} images: {what}, seconds", time.perf_counter() - start, "")
        return table
    finally:
        server.send_signal(signal.SIGINT)
        server.wait(60)
        shutil.rmtree(state, ignore_errors=True)


def _write(survey: Path, folder: Path, count: int, keep: tuple[str, ...], small: bool = False) -> None:
    """A dataset of `count` different files with the survey's labels; `small`: pictures a twentieth as wide."""
    pictures = folder / "images" / "train"
    pictures.mkdir(parents=True)
    (folder / "annotations").mkdir()
    document = orjson.loads((survey / "annotations" / "train.json").read_bytes())
    labels: dict[int, list[dict[str, Any]]] = {}
    for annotation in document["annotations"]:
        labels.setdefault(annotation["image_id"], []).append(annotation)
    sources = [(image, _picture(survey / "images" / "train" / image["file_name"], small)) for image in document["images"]]
    scale = 0.05 if small else 1.0
    images, annotations = [], []
    for number in range(count):
        image, data = sources[number % len(sources)]
        name = f"night_{number:06d}.jpg"
        (pictures / name).write_bytes(data + b"%d" % number)  # what follows a picture's end makes the file another
        images.append({"id": number, "file_name": name, "width": round(image["width"] * scale), "height": round(image["height"] * scale)})
        for annotation in labels.get(image["id"], []):
            kept = {key: annotation[key] for key in ("category_id", "iscrowd", *keep) if key in annotation}
            kept["bbox"] = [round(value * scale, 2) for value in annotation["bbox"]]
            annotations.append({**kept, "id": len(annotations), "image_id": number})
    (folder / "annotations" / "train.json").write_bytes(
        orjson.dumps({"images": images, "annotations": annotations, "categories": document["categories"]})
    )


def _picture(path: Path, small: bool) -> bytes:
    if not small:
        return path.read_bytes()
    buffer = io.BytesIO()
    Image.open(path).resize((48, 36)).save(buffer, "JPEG", quality=90)
    return buffer.getvalue()


def _hash_and_look(folder: Path) -> float:
    """Seconds to hash every file and read its header, and nothing else."""
    paths = sorted((folder / "images" / "train").iterdir())
    start = time.perf_counter()
    for path in paths:
        data = path.read_bytes()
        hashlib.sha256(data).hexdigest()
        assert Image.open(io.BytesIO(data)).size
    return time.perf_counter() - start


def _bring(address: str, folder: Path) -> tuple[float, int]:
    """Seconds of the job, and the dataset."""
    dataset_import = _post(f"{address}/api/imports", {"folder": str(folder)})["id"]
    start = time.perf_counter()
    _post(f"{address}/api/imports/{dataset_import}/start", {})
    while True:
        found = _get(f"{address}/api/imports/{dataset_import}")
        if found["state"] not in ("waiting", "reading"):
            break
        time.sleep(0.05)
    assert found["state"] == "done", found["message"]
    seconds = time.perf_counter() - start
    while _get(f"{address}/api/datasets/{found['dataset']}/overview")["examining"]:
        time.sleep(0.5)
    return seconds, found["dataset"]


def _peak(server: subprocess.Popen[str]) -> float:
    """The most memory the background worker has had, MB."""
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            command = (folder / "cmdline").read_bytes().split(b"\0")
            if b"work" in command and b"manage.py" in command and int((folder / "stat").read_text().split()[3]) == server.pid:
                line = next(line for line in (folder / "status").read_text().splitlines() if line.startswith("VmHWM"))
                return int(line.split()[1]) / 1024
        except (OSError, StopIteration):
            continue
    raise AssertionError("the worker is not there")


def _get(address: str) -> Any:
    with urlopen(address) as answer:
        return json.load(answer)


def _post(address: str, body: dict[str, Any]) -> Any:
    with urlopen(Request(address, json.dumps(body).encode(), {"Content-Type": "application/json"})) as answer:
        return json.load(answer)
