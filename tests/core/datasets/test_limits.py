"""What is very large or oddly named: bounded by what is there, or refused by its size; said plainly on a terminal."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from varlen.cli.terminal import Shown
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import encode

from tests.core.cli.test_cli import varlen

PIXELS = np.random.default_rng(1).integers(0, 255, (400, 400, 3), np.uint8)
TURNED = {"varlen_pipeline": 1, "name": "turned", "seed": 1, "steps": [{"step": "rotate", "degrees": [-10, 10]}]}


def _coco(folder: Path, classes: int, boxes: list[list[float]], name: str = "a.jpg") -> None:
    (folder / "images" / "train").mkdir(parents=True)
    (folder / "images" / "train" / name).write_bytes(encode(PIXELS, "jpeg", 90))
    annotations = [{"id": n + 1, "image_id": 1, "category_id": n % classes + 1, "bbox": box, "area": 64, "iscrowd": 0} for n, box in enumerate(boxes)]
    (folder / "annotations.json").write_text(json.dumps({
        "images": [{"id": 1, "file_name": f"train/{name}", "width": 400, "height": 400}],
        "categories": [{"id": n + 1, "name": f"moth {n}"} for n in range(classes)], "annotations": annotations}))  # fmt: skip


def test_a_picture_with_fifty_thousand_labels(tmp_path: Path) -> None:
    """About 1 kB a label in each of three images, beyond what a process needs for few of them."""
    (tmp_path / "turned.varlen.json").write_text(json.dumps(TURNED))
    taken = []
    for count in (50, 50, 50_000):  # the first may compile, which takes memory of its own
        _coco(tmp_path / f"set-{len(taken)}", 1, [[x, y, 8.0, 8.0] for x, y in np.random.default_rng(2).uniform(0, 390, (count, 2)).tolist()])
        order = ["export", tmp_path / f"set-{len(taken)}", tmp_path / "turned.varlen.json", "-o", tmp_path / f"out-{len(taken)}", "--variants", 2,
                 "--workers", 1]  # fmt: skip
        done = subprocess.run([sys.executable, "-c", MEASURED, *map(str, order)], capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        taken.append(int(done.stdout.split()[-1]))
    assert taken[2] - taken[1] < 200 * 1024  # 600 MB where each label kept a page


#: A command, and then the most memory it took, kB.
MEASURED = """
import resource, sys
from varlen.cli.main import app
app(sys.argv[1:], standalone_mode=False)
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
"""


def test_a_hundred_thousand_classes(tmp_path: Path) -> None:
    _coco(tmp_path / "classes", 100_000, [[5.0, 5.0, 20.0, 20.0]] * 3)
    begun = time.process_time()
    assert len(read_dataset(tmp_path / "classes").classes) == 100_000
    assert time.process_time() - begun < 5  # 1 s; a search through all for each takes minutes


def test_a_file_that_says_it_has_20_gigabytes_is_not_read(tmp_path: Path) -> None:
    (tmp_path / "images").mkdir()
    (tmp_path / "labels").mkdir()
    (tmp_path / "images" / "a.jpg").write_bytes(encode(PIXELS, "jpeg", 90))
    (tmp_path / "data.yaml").write_text("names: [moth]\ntrain: images\n")
    with (tmp_path / "labels" / "a.txt").open("wb") as file:
        file.truncate(20 << 30)
    done = varlen("inspect", tmp_path)
    assert done.returncode == 1
    assert "20.0 GiB are too much for one file" in done.stderr


def test_names_as_long_as_names_can_be(tmp_path: Path) -> None:
    """Nothing can be appended to them: their variants have shorter names that tell them apart; all else keeps its own."""
    (tmp_path / "pictures").mkdir()
    for name in ("n" * 250 + "a.jpg", "n" * 250 + "b.jpg", "é" * 125 + ".png", "short.jpg"):
        (tmp_path / "pictures" / name).write_bytes(encode(PIXELS, "jpeg", 90))
    (tmp_path / "turned.varlen.json").write_text(json.dumps(TURNED))
    done = varlen("export", tmp_path / "pictures", tmp_path / "turned.varlen.json", "-o", tmp_path / "out", "--variants", 1)
    assert done.returncode == 0, done.stderr
    names = sorted(path.name for path in (tmp_path / "out" / "images" / "train").iterdir())
    assert len(names) == 8
    assert "short_v1.jpg" in names
    assert max(len(os.fsencode(name)) for name in names) <= 255
    assert varlen("verify", "--deep", "--dataset", tmp_path / "pictures", tmp_path / "out").returncode == 0


@pytest.mark.parametrize("name", ["a\x1b[31mred\x1b]0;other title\x07.jpg", "c\u202egpj\x9b5m.jpg"])
def test_a_name_commands_no_terminal(tmp_path: Path, name: str) -> None:
    (tmp_path / "pictures").mkdir()
    (tmp_path / "pictures" / name).write_bytes(encode(PIXELS, "jpeg", 90))
    said = varlen("inspect", tmp_path / "pictures").stdout
    assert not {each for each in said if each in "\x1b\x07\x9b\u202e"}
    (tmp_path / "pictures" / name).write_bytes(b"no picture")
    done = varlen("inspect", tmp_path / "pictures")
    assert done.returncode == 1
    assert not set(done.stderr) & set("\x1b\x07\x9b\u202e")


def test_what_is_shown_is_still_json(capsys: pytest.CaptureFixture[str]) -> None:
    name = "".join(map(chr, range(1, 160))) + "\u202e.jpg"
    print(json.dumps({"name": name}, ensure_ascii=False), file=Shown(sys.stdout))  # type: ignore[arg-type]
    assert json.loads(capsys.readouterr().out)["name"] == name
