"""What all tests share: a small survey, and tiny datasets whose answers are known."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import pickle
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import varlen.demo
from hypothesis import settings
from varlen.atomic_files import write_whole
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import encode
from varlen.demo.scene import Seen, photograph
from varlen.demo.variants import write_variant
from varlen.demo.write import write_demo
from varlen.pipeline.document import Pipeline, from_json
from varlen.steps import CATALOGUE
from varlen.stores import Store

# The first call of a compiled loop takes long, so no single example says anything about time.
settings.register_profile("varlen", deadline=None)
settings.load_profile("varlen")

PROJECT = Path(__file__).resolve().parent.parent


@pytest.fixture(autouse=True)
def catalogue_as_it_was() -> Iterator[None]:
    """What a test adds to the catalogue of steps goes with it."""
    before = dict(CATALOGUE)
    yield
    CATALOGUE.clear()
    CATALOGUE.update(before)


def free_port() -> int:
    """A port on loopback that nobody listens at."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def until_listened_at(port: int) -> None:
    """Wait until a server listens at a port on loopback, half a minute at most."""
    for _ in range(300):
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.1)


def send_folder(store: Store, folder: Path, under: str) -> None:
    """Put all files of a folder into a store, below `under`."""
    for path in folder.rglob("*"):
        if path.is_file():
            store.send(path, f"{under}/{path.relative_to(folder).as_posix()}")


def _kept() -> Path:
    """Where pictures are kept until the code that makes them changes."""
    code = b"".join(path.read_bytes() for path in sorted(Path(varlen.demo.__path__[0]).glob("*.py")))
    return PROJECT / ".varlen" / "rendered-for-tests" / hashlib.sha256(code).hexdigest()[:16]


def kept_photograph(seed: int, number: int) -> tuple[Any, list[Seen]]:
    """`photograph`, taken once for all surveys of whatever size."""
    place = _kept() / "photographs" / f"{seed}-{number}.pickle"
    if place.exists():
        return pickle.loads(place.read_bytes())
    made = photograph(seed, number)
    write_whole(place, pickle.dumps(made), lasting=False)
    return made


def kept_survey(folder: Path, images: int) -> None:
    """The night moth survey, as `varlen demo` writes it."""
    write_demo(folder, images, take=kept_photograph)


def rendered(name: str, make: Callable[[Path], None]) -> Path:
    """A folder of pictures that take long to render: made once for all processes and runs, until the code that makes them changes."""
    kept = _kept() / name
    kept.parent.mkdir(parents=True, exist_ok=True)
    with (kept.parent / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not kept.exists():
            part = kept.with_suffix(".part")
            shutil.rmtree(part, ignore_errors=True)
            part.mkdir()
            make(part)
            part.rename(kept)
    return kept


@pytest.fixture(scope="session")
def survey_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The night moth survey, small: 6 training images, one each for validation and test."""
    folder = tmp_path_factory.mktemp("survey") / "moths"
    shutil.copytree(rendered("survey", lambda part: kept_survey(part / "moths", 8)) / "moths", folder)
    return folder


@pytest.fixture(scope="session")
def flawed_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The survey with one of every mistake."""

    def make(part: Path) -> None:
        kept_survey(part / "survey", 15)
        write_variant(part / "survey", part / "flawed", "flawed")

    folder = tmp_path_factory.mktemp("flawed") / "flawed"
    shutil.copytree(rendered("flawed", make) / "flawed", folder, symlinks=True)
    return folder


@pytest.fixture
def survey(survey_folder: Path) -> Dataset:
    return read_dataset(survey_folder)


@pytest.fixture
def lamp_drift(survey_folder: Path) -> dict[str, Any]:
    document: dict[str, Any] = json.loads((survey_folder / "pipelines" / "lamp-drift.varlen.json").read_text())
    return document


def make_pipeline(*steps: dict[str, Any], **head: Any) -> Pipeline:
    """A pipeline of these steps; every step happens unless it says otherwise."""
    return from_json({"varlen_pipeline": 1, **head, "steps": [{"probability": 1, **step} for step in steps]})


def write_coco(folder: Path, images: list[dict[str, Any]], annotations: list[dict[str, Any]], split: str = "train", **more: Any) -> Path:
    """A COCO dataset; each image needs file_name, width, height and pixels (or bytes as `data`)."""
    (folder / "images" / split).mkdir(parents=True, exist_ok=True)
    (folder / "annotations").mkdir(exist_ok=True)
    listed = []
    for image in images:
        data = image.pop("data", None)
        pixels = image.pop("pixels", None)
        if data is not None or pixels is not None:
            (folder / "images" / split / image["file_name"]).write_bytes(data if data is not None else encode(pixels, "png"))
        listed.append(image)
    categories = more.pop("categories", [{"id": 1, "name": "moth", "keypoints": ["dot"], "skeleton": []}])
    content = {"images": listed, "annotations": annotations, "categories": categories, **more}
    (folder / "annotations" / f"{split}.json").write_text(json.dumps(content))
    return folder


def dotted(folder: Path, width: int, height: int, dots: list[tuple[int, int]]) -> Path:
    """One image a dot: a lit square of 3×3 px around a pixel, a keypoint on that pixel, a box around the square."""
    images, annotations = [], []
    for number, (x, y) in enumerate(dots, 1):
        pixels = np.zeros((height, width, 3), np.uint8)
        pixels[y - 1 : y + 2, x - 1 : x + 2] = 255
        images.append({"id": number, "file_name": f"dot_{number:02d}.png", "width": width, "height": height, "pixels": pixels})
        annotations.append(
            {"id": number, "image_id": number, "category_id": 1, "bbox": [x - 1, y - 1, 3, 3], "area": 9, "iscrowd": 0, "keypoints": [x, y, 2]}
        )
    return write_coco(folder, images, annotations)


def light_near(pixels: np.ndarray, x: float, y: float, reach: int = 7) -> tuple[float, float]:
    """Centre of the light around a place, in continuous pixels; fails when it is dark there."""
    x0, y0 = max(int(x) - reach, 0), max(int(y) - reach, 0)
    part = pixels[y0 : int(y) + reach + 1, x0 : int(x) + reach + 1].max(axis=2).astype(np.float64)
    assert part.max() > 60, f"no light near ({x:.1f}, {y:.1f})"
    part[part < 25] = 0.0
    rows, columns = np.mgrid[0 : part.shape[0], 0 : part.shape[1]]
    return float(x0 + ((columns + 0.5) * part).sum() / part.sum()), float(y0 + ((rows + 0.5) * part).sum() / part.sum())


@pytest.fixture(scope="session")
def endpoint() -> Iterator[str]:
    port = free_port()
    server = subprocess.Popen(
        [sys.executable, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(port)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    until_listened_at(port)
    yield f"http://127.0.0.1:{port}"
    server.kill()
    server.wait()


@pytest.fixture
def bucket(endpoint: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Iterator[Store]:
    """An empty bucket; where the store is and who may in are said as its own tools take it."""
    from varlen import stores

    for name, value in {"AWS_ENDPOINT_URL": endpoint, "AWS_ACCESS_KEY_ID": "moth", "AWS_SECRET_ACCESS_KEY": "lamp", "AWS_DEFAULT_REGION": "us-east-1",
                        "VARLEN_SCRATCH": str(tmp_path / "scratch")}.items():  # fmt: skip
        monkeypatch.setenv(name, value)
    stores._connected.cache_clear()
    import fsspec

    files = fsspec.filesystem("s3", skip_instance_cache=True)
    name = f"moths-{os.urandom(4).hex()}"
    files.mkdir(f"s3://{name}")
    yield Store(f"s3://{name}")
    stores._connected.cache_clear()
