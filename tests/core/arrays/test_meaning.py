"""What people mean: other pictures get other draws, what belongs together stays together, partners are read when they are drawn."""

from __future__ import annotations

import pickle
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import PIL.Image
import pytest
import varlen as v
from varlen.datasets.dataset import Dataset
from varlen.kernels.pixel_digest import pixel_digest

from tests.core.golden.dataset import pattern

TURN = v.Pipeline([v.Rotate(degrees=(-40, 40)), v.Brightness(factor=(0.5, 2))], seed=3)
HALF = v.Pipeline([v.Shift(x_fraction=(0.5, 0.5), y_fraction=(0, 0))])
IMAGE = pattern(64, 48, 1)


class Tensor:
    """What gives an array when asked, as tensors do, and makes others of its kind."""

    def __init__(self, values: Any, reads: list[str] | None = None, name: str = "") -> None:
        self.values, self.shape = np.asarray(values), np.shape(values)
        self.reads, self.name = reads, name

    def __array__(self, dtype: Any = None, copy: Any = None) -> Any:
        if self.reads is not None:
            self.reads.append(self.name)
        return self.values if dtype is None else self.values.astype(dtype)

    def new_tensor(self, values: Any) -> Tensor:
        return Tensor(np.asarray(values, self.values.dtype))


class Shelf(Mapping[str, Any]):
    """2,000 pictures that are made when they are asked for."""

    def __init__(self) -> None:
        self.read: list[str] = []

    def __getitem__(self, key: str) -> tuple[Any, v.Labels]:
        self.read.append(key)
        return pattern(40, 60, int(key[1:])), v.Labels(boxes=[[1, 1, 39, 59]], classes=[key])

    def __iter__(self) -> Iterator[str]:
        return (f"k{number}" for number in range(2000))

    def __len__(self) -> int:
        return 2000


def test_pictures_without_a_key_get_draws_of_their_own() -> None:
    outs = [TURN.render(pattern(64, 48, number)) for number in range(200)]
    assert len({out.trace["steps"][0]["drawn"]["degrees"] for out in outs}) > 190
    assert outs[0].key == pixel_digest(pattern(64, 48, 0))
    assert (TURN.render(IMAGE).image == TURN.render(IMAGE.copy(), key=pixel_digest(IMAGE)).image).all()
    clip = TURN.render([IMAGE, pattern(64, 48, 2)])
    assert clip[0].key == clip[1].key == pixel_digest(IMAGE)
    with_two = TURN.render_nested({"image": IMAGE, "photo": IMAGE[::-1].copy()})
    assert (with_two["image"] == TURN.render(IMAGE).image).all()


def test_pictures_as_people_hold_them(tmp_path: Path) -> None:
    PIL.Image.fromarray(IMAGE).save(tmp_path / "moth.png")
    plain = TURN.render(IMAGE, key="a").image
    for held in (PIL.Image.fromarray(IMAGE), PIL.Image.open(tmp_path / "moth.png"), str(tmp_path / "moth.png"), tmp_path / "moth.png", Tensor(IMAGE)):
        assert (TURN.render(held, key="a").image == plain).all()
        assert v.sheet(TURN, held, variants=1, tile_px=32).pixels.any()
    gray = PIL.Image.fromarray(IMAGE[:, :, 0])
    assert TURN.render(gray).image.shape == (48, 64, 1)
    boxes = v.Labels(boxes=[Tensor([1.0, 2, 30, 40])], classes=Tensor([3]).values)
    assert TURN.render(IMAGE, boxes).classes.tolist() == [3]
    assert TURN.render(Tensor(np.stack([IMAGE, IMAGE]))).image.shape == (2, 48, 64, 3)


def test_labels_move_without_a_picture_and_results_pickle() -> None:
    labels = v.Labels(boxes=[[4, 4, 20, 30], [40, 10, 60, 40]], ids=["a", "b"])
    plain, moved = TURN.render(IMAGE, labels, key="n", variant=5), TURN.move_labels(labels, (64, 48), key="n", variant=5)
    assert np.array_equal(plain.boxes, moved.boxes)
    assert plain.lost == moved.lost
    assert moved.trace["steps"] == plain.trace["steps"]
    assert "pixel_digest" not in moved.trace
    other = pickle.loads(pickle.dumps(plain))
    assert np.array_equal(other.image, plain.image)
    assert other.ids == plain.ids
    assert np.array_equal(other.again(IMAGE[:, :, 0]), plain.again(IMAGE[:, :, 0]))


def test_a_detection_target_stays_consistent_when_boxes_are_lost() -> None:
    target = {"boxes": np.array([[4, 4, 20, 30], [40, 4, 60, 30.0]], np.float32), "labels": np.array([3, 7]), "area": np.array([416.0, 520.0]),
              "iscrowd": np.array([0, 1]), "image_id": np.array([9]), "track": [11, 12], "size": [48, 64]}  # fmt: skip
    out = HALF.render_nested({"image": IMAGE, "target": target})["target"]
    assert out["boxes"].tolist() == [[36, 4, 52, 30]]
    assert out["boxes"].dtype == np.float32
    assert (out["labels"].tolist(), out["area"].tolist(), out["iscrowd"].tolist(), out["track"]) == ([3], [416.0], [0], [11])
    assert out["image_id"].tolist() == [9]
    assert out["size"] == [48, 64]
    tensors = HALF.render_nested((IMAGE, {name: Tensor(value) for name, value in target.items() if name not in ("track", "size")}))[1]
    assert isinstance(tensors["boxes"], Tensor)
    assert tensors["labels"].values.tolist() == [3]
    assert tensors["area"].values.tolist() == [416.0]


def test_masks_and_outlines_of_a_nested_structure() -> None:
    rings = [[[4, 4], [20, 4], [20, 20]], [[40, 4], [60, 4], [60, 20]]]
    out = HALF.render_nested({"image": IMAGE, "segmentation": rings, "area": [128, 160], "disparity": np.ones((48, 64))},
                             roles={"disparity": "array"})  # fmt: skip
    assert out["segmentation"] == [[[36, 4], [52, 4], [52, 20]]]
    assert out["area"] == [128]
    assert out["disparity"][0, 0] == 0
    assert out["disparity"][0, 40] == 1
    levels = HALF.render_nested({"image": IMAGE, "mask": np.full((48, 64), 2)})["mask"]
    assert levels.dtype == np.int64
    assert set(np.unique(levels).tolist()) == {2, 255}
    truth = HALF.render_nested({"image": IMAGE, "mask": np.ones((48, 64), bool)}, roles={"mask": "array_nearest"})["mask"]
    assert truth.dtype == np.bool_
    assert not truth[0, 0]
    assert truth[0, 40]
    xywh = HALF.render_nested({"image": IMAGE, "bboxes": [[4, 4, 16, 26]]}, roles={"bboxes": "xywh"})["bboxes"]
    assert xywh == [[36, 4, 16, 26]]


def test_masks_of_outlines() -> None:
    out = HALF.render(IMAGE, v.Labels(polygons=[[[4, 4], [20, 4], [20, 20], [4, 20]]]))
    assert out.masks.shape == (1, 48, 64)
    assert out.masks.sum() == 256
    assert out.masks[0, 4:20, 36:52].all()
    assert out.labels.masks is None
    samples = v.stream(
        v.Dataset.from_arrays([("a", IMAGE, v.Labels(polygons=[[[4, 4], [20, 4], [20, 20], [4, 20]]], classes=["m"]))]), HALF, masks=True
    )
    assert samples[0]["masks"].sum() == 256


def test_partners_are_read_when_they_are_drawn() -> None:
    mosaic, shelf = v.Pipeline([v.Mosaic(probability=1)], seed=1), Shelf()
    out = mosaic.render(IMAGE, v.Labels(boxes=[[4, 4, 20, 30]], classes=["own"]), key="k3", partners=shelf)
    assert len(shelf.read) == 3
    assert set(out.classes) <= {"own", *shelf.read}
    named = mosaic.partners(shelf, "k3", 1)
    assert named == shelf.read[:3]
    reads: list[str] = []
    lazy = v.Dataset.from_arrays((key, Tensor(pattern(40, 60, place), reads, key), v.Labels()) for place, key in enumerate(shelf))
    assert reads == []
    assert mosaic.partners(lazy, "k3", 1) == named
    assert reads == []
    samples = v.stream(lazy, mosaic)
    samples[samples.keys.index("k3")]
    assert set(reads) == {"k3", *named}
    reads.clear()
    out = mosaic.render(IMAGE, key="k3", partners=lazy)
    assert set(reads) == set(named)


def test_with_a_dataset_s_partners_it_is_the_row_of_an_export(survey: Dataset) -> None:
    pipeline = v.Pipeline([v.Mosaic(probability=1), v.Mixup(probability=1)], seed=5)
    key = survey.by_split()["train"][0]
    _, image, labels, _ = survey[key]
    out = pipeline.render(image, labels, key=key, variant=2, partners=survey)
    streamed = v.stream(survey, pipeline, epoch=1)[0]
    assert streamed["key"] == key
    assert np.array_equal(out.image, streamed["image"])
    assert np.allclose(out.boxes, streamed["boxes"], atol=1e-4)
    assert pipeline.partners(survey, key, 2) == [each for each in out._pictures.files.pictures if each != key]


def test_paired_arrays_follow_the_draw(survey: Dataset) -> None:
    pipeline = v.Pipeline([v.Rotate(), v.Mosaic(probability=1), v.Resize(width_px=64, height_px=48)], seed=2)

    def depth(key: str) -> Any:
        return survey.pixels(key)[:, :, 1].astype(np.float32)

    samples = v.stream(survey, pipeline, also={"depth": depth, "both": survey.pixels}, channels="first")
    for number in range(3):
        sample: Any = samples[number]
        assert sample["depth"].shape == (48, 64)
        assert sample["depth"].dtype == np.float32
        # Pictures that are made much smaller are averaged by other loops than arrays.
        assert np.abs(sample["depth"] - sample["image"][1]).mean() <= 4.0
        assert np.abs(sample["both"].astype(int) - sample["image"]).mean() <= 4.0
    with samples.batches(2, workers=1) as batches:
        batch: Any = next(iter(batches))
    assert np.array_equal(batch["depth"][0], samples[0]["depth"])  # type: ignore[typeddict-item]
    with pytest.raises(v.VarlenError, match="have 'boxes' already"):
        v.stream(survey, pipeline, also={"boxes": depth})
    with pytest.raises(v.VarlenError, match="also: small: the array is 3×3 px"):
        v.stream(survey, pipeline, also={"small": lambda key: np.zeros((3, 3))})[0]


def test_a_normalize_step_is_obeyed(survey: Dataset) -> None:
    step = v.Normalize(mean=(90, 80, 70), std=(2, 4, 5))
    pipeline = v.Pipeline([v.Resize(width_px=64, height_px=48), step])
    plain, scaled = v.stream(survey, pipeline, normalized=False)[0]["image"], v.stream(survey, pipeline)[0]["image"]
    assert plain.dtype == np.uint8
    assert scaled.dtype == np.float32
    assert np.allclose(scaled, (plain.astype(np.float32) - [90, 80, 70]) / [2, 4, 5], atol=1e-4)
    assert np.allclose(v.stream(survey, pipeline, normalized=([0, 0, 0], [1.0, 1, 2]))[0]["image"] * [1, 1, 2], plain, atol=1e-3)
    out = pipeline.render(IMAGE)
    assert out.normalized.dtype == np.float32
    assert np.allclose(out.normalized[0, 0], (out.image[0, 0] - np.array([90, 80, 70])) / [2, 4, 5], atol=1e-4)
    with pytest.raises(v.VarlenError, match="drop range, or write normalized=False"):
        v.stream(survey, pipeline, range="0-1")
    assert v.stream(survey, pipeline, range="0-1", normalized=False)[0]["image"].max() <= 1
    with pytest.raises(v.VarlenError, match="the pipeline has no normalize step"):
        v.stream(survey, v.Pipeline([v.Flip()]), normalized=True)


@pytest.mark.parametrize("step", [v.Rotate, v.ColorJitter, v.Crop])
def test_every_parameter_stands_in_the_first_lines_of_help(step: Any, capsys: pytest.CaptureFixture[str]) -> None:
    help(step)
    shown = capsys.readouterr().out.splitlines()[:60]
    for name in step.parameters():
        assert any(line.strip(" |").startswith(f"{name}: ") and "default" in line for line in shown), name
    assert step.meaning() in "\n".join(shown)
