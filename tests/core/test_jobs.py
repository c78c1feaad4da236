"""Jobs of the people this is for, from start to end, by terminal and code; those of the screen are in the browser's tests."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import varlen as v
from PIL import Image
from varlen.datasets.image_files import decode, encode
from varlen.model.geometry import Size

from tests.core.cli.test_cli import varlen

SIZE = Size(320, 240)
#: Outlines of two things in a picture: their vertices are marked by dots, their inside has a color of its own.
SHAPES = {
    "wing": ([[90, 70], [170, 62], [188, 120], [120, 150]], (40, 160, 60)),
    "lamp": ([[200, 130], [262, 120], [250, 180]], (60, 60, 190)),
}
DOT = (250, 250, 250)


@pytest.fixture
def outlined(tmp_path: Path) -> Path:
    """Three pictures with a JSON file of outlines beside each."""
    folder = tmp_path / "field"
    (folder / "train").mkdir(parents=True)
    y, x = np.mgrid[0 : SIZE.height, 0 : SIZE.width] + 0.5
    for number in range(3):
        pixels = np.full((SIZE.height, SIZE.width, 3), 20, np.uint8)
        shapes = []
        for label, (points, color) in SHAPES.items():
            moved = np.array(points, float) + 4 * number
            inside = np.ones(x.shape, bool)
            for a, b in zip(moved, np.roll(moved, -1, axis=0), strict=True):
                inside &= (b[0] - a[0]) * (y - a[1]) - (b[1] - a[1]) * (x - a[0]) > 0
            pixels[inside] = color
            shapes.append({"label": label, "points": moved.tolist()})
        (folder / "train" / f"night_{number}.png").write_bytes(encode(pixels, "png", 0))
        (folder / "train" / f"night_{number}.json").write_text(json.dumps({"shapes": shapes}))
    return folder


def _pipeline(folder: Path, *steps: Any) -> Path:
    path = folder / "turned.varlen.json"
    v.Pipeline([v.Flip(probability=0.5), v.Rotate(degrees=(-14, 14)), *steps], seed=3, name="Turned").save(path)
    return path


def test_segmentation_from_outlines(outlined: Path, tmp_path: Path) -> None:
    """Terminal: outlines in, picture and mask pairs out; and the same masks in a feed. Masks lie where the colors are."""
    out = tmp_path / "masks"
    done = varlen("export", outlined, _pipeline(tmp_path), "-o", out, "--format", "mask-pairs", "--image", "png", "--variants", 4, "--no-originals")
    assert done.returncode == 0, done.stderr
    assert varlen("verify", out).returncode == 0
    pictures = sorted((out / "images").rglob("*.png"))
    assert len(pictures) == 12
    named = v.read_dataset(outlined).classes
    for path in pictures:
        pixels, mask = decode(path.read_bytes(), path.name), np.asarray(Image.open(out / "masks" / path.relative_to(out / "images")))
        for label, (_, color) in SHAPES.items():
            seen = np.abs(pixels.astype(int) - color).max(axis=2) < 40
            level = mask == named.index(label) + 1
            assert (seen & level).sum() / (seen | level).sum() > 0.93, (path.name, label)
    samples = v.stream(v.read_dataset(outlined), _pipeline(tmp_path), masks=True)
    for number in range(3):
        sample: Any = samples[number]
        for place, name in enumerate(sample["classes"]):
            color = SHAPES[samples.dataset.classes[name]][1]
            seen = np.abs(sample["image"].astype(int) - color).max(axis=2) < 40
            held = sample["masks"][place].astype(bool)
            assert (seen & held).sum() / (seen | held).sum() > 0.93


def test_points_of_several_outlines_are_saved_as_they_came(outlined: Path, tmp_path: Path) -> None:
    """Terminal: every vertex, in its order and under its label, lies where its dot is in the augmented picture."""
    for path in (outlined / "train").glob("*.json"):
        pixels = np.full((SIZE.height, SIZE.width, 3), 20, np.uint8)
        for shape in json.loads(path.read_text())["shapes"]:
            for x, y in shape["points"]:
                pixels[round(y) - 3 : round(y) + 3, round(x) - 3 : round(x) + 3] = DOT
        path.with_suffix(".png").write_bytes(encode(pixels, "png", 0))
    out = tmp_path / "again"
    done = varlen("export", outlined, _pipeline(tmp_path), "-o", out, "--image", "png", "--variants", 3, "--no-originals")
    assert done.returncode == 0, done.stderr
    assert "picture-json" in done.stdout + done.stderr  # the form it came in
    written = sorted((out / "images").rglob("*.json"))
    assert len(written) == 9
    for path in written:
        bright = decode(path.with_suffix(".png").read_bytes(), path.name).astype(float)[:, :, 0] - 20
        bright[bright < 2] = 0
        shapes = json.loads(path.read_text())["shapes"]
        assert [shape["label"] for shape in shapes] == list(SHAPES)
        for shape in shapes:
            assert len(shape["points"]) == len(SHAPES[shape["label"]][0])
            for x, y in shape["points"]:
                top, left = max(0, round(y) - 6), max(0, round(x) - 6)
                part = bright[top : round(y) + 6, left : round(x) + 6]
                rows, columns = np.mgrid[0 : part.shape[0], 0 : part.shape[1]] + 0.5
                there = (left + (part * columns).sum() / part.sum(), top + (part * rows).sum() / part.sum())
                assert np.hypot(there[0] - x, there[1] - y) < 0.1, (path.name, shape["label"])


def test_a_clip_moves_as_one() -> None:
    """Code: a dot that stands still in a clip stands still in its variant, its box on it in every frame; depth moves along."""
    frames = [np.full((120, 160, 3), 20, np.uint8) for _ in range(5)]
    for frame in frames:
        frame[40:60, 70:90] = DOT
    labels = [v.Labels(boxes=[[70, 40, 90, 60]], classes=["moth"], ids=["first"]) for _ in frames]
    pipeline = v.Pipeline([v.Flip(probability=0.5), v.Scale(factor=(0.8, 1.2)), v.Shift(), v.Noise(probability=1, per_frame=True)], seed=20)
    depth = np.stack([frame[:, :, 0] for frame in frames]).astype(np.float32)
    places = set()
    for variant in range(1, 5):
        clip = pipeline.render(frames, labels, key="night_0001", variant=variant)
        moved = clip.again(depth)
        boxes = np.concatenate(clip.boxes)
        assert (boxes == boxes[0]).all()
        rows, columns = np.nonzero(moved[0] > 130)
        assert np.allclose(boxes[0], [columns.min(), rows.min(), columns.max() + 1, rows.max() + 1], atol=1.0)
        assert (moved == moved[0]).all()
        assert not np.array_equal(clip.image[0], clip.image[1])  # noise is each frame's own
        places.add(tuple(boxes[0].round(2)))
    assert len(places) == 4


def test_three_versions_are_told_apart_a_month_later(outlined: Path, tmp_path: Path) -> None:
    """Terminal: which of three is which, what made it, and whether it is still as it was made: from the folders alone."""
    orders = {
        "first": ("--variants", 2),
        "other-seed": ("--variants", 2, "--seed", 9),
        "softer": ("--variants", 1),
    }
    plain, soft = _pipeline(tmp_path), tmp_path / "softer.varlen.json"
    v.Pipeline([v.Rotate(degrees=(-5, 5))], seed=3, name="Softer").save(soft)
    for name, order in orders.items():
        assert varlen("export", outlined, soft if name == "softer" else plain, "-o", tmp_path / name, *order).returncode == 0
    told = varlen("compare", tmp_path / "first", tmp_path / "other-seed").stdout
    assert "seed" in told
    assert "9" in told
    assert "Softer" not in told
    told = varlen("compare", tmp_path / "first", tmp_path / "softer").stdout
    assert "Softer" in told
    assert "rotate" in told
    for name in orders:
        readme = (tmp_path / name / "README.md").read_text()
        assert ("Softer" in readme) == (name == "softer")
        assert varlen("verify", "--deep", "--dataset", outlined, tmp_path / name).returncode == 0
