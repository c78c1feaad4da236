"""From a variant back to its source: there and back is the same place, in every step and every form of prediction."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import varlen as v
from varlen.datasets.dataset import Dataset

from tests.core.cli.test_cli import refused, varlen
from tests.core.golden.dataset import pattern

IMAGE = pattern(160, 120, 3)
GRID = np.array([[x + 0.25, y + 0.5] for x in range(4, 160, 12) for y in range(4, 120, 9)], float)
CHAINS: dict[str, list[v.Step]] = {
    "affine": [v.Flip(probability=1), v.Rotate(degrees=(-30, 30)), v.Scale(factor=(0.7, 1.4)), v.Crop(mode="centre", fraction=0.8)],
    "copies": [v.QuarterTurn(), v.Crop(mode="window", left_px=10, top_px=6, width_px=60, height_px=50)],
    "perspective": [v.Perspective(corner_fraction=(0.1, 0.1)), v.Resize(width_px=99, height_px=77, fit="letterbox")],
    "bends": [v.Elastic(strength_fraction=(0.03, 0.03), spacing_fraction=0.2), v.Lens(k1=(-0.15, 0.2)), v.Rotate(degrees=(10, 10))],
    "grown": [v.Rotate(degrees=(20, 40), frame="grow"), v.Pad(multiple_px=64)],
}


@pytest.mark.parametrize("steps", CHAINS.values(), ids=CHAINS)
@pytest.mark.parametrize("variant", [1, 2])
def test_points_come_back_to_where_they_were(steps: list[v.Step], variant: int) -> None:
    labels = v.Labels(keypoints=[[[x, y, 2] for x, y in GRID]], boxes=[[0, 0, 160, 120]], outside="keep")
    pipeline = v.Pipeline(steps, seed=3, labels=v.LabelRules(keep_share=0, keep_side_px=0))
    out = pipeline.render(IMAGE, labels, key="a", variant=variant)
    points = out.keypoints[0]
    seen = points[:, 2] > 0
    assert seen.sum() > 20
    found = out.back(points[seen, :2])
    assert np.abs(found - GRID[seen]).max() < 0.01
    assert found.keys == ["a"] * int(seen.sum())
    both = out.back(points[None])
    assert np.abs(both[0, seen, :2] - GRID[seen]).max() < 0.01
    assert (both[0, :, 2] == points[:, 2]).all()


def test_blank_area_is_no_number_and_has_no_key() -> None:
    out = v.Pipeline([v.Shift(x_fraction=(0.5, 0.5), y_fraction=(0, 0), edges="mirror")]).render(IMAGE, key="a")
    found = out.back([[20.0, 30.0], [100.0, 30.0]])
    assert np.isnan(found[0]).all()
    assert (found[1].tolist(), found.keys) == ([20.0, 30.0], ["", "a"])
    boxes = out.back([[4.0, 4, 30, 30], [70, 10, 110, 40]])
    assert np.isnan(boxes[0]).all()
    assert boxes[1].tolist() == [0, 10, 30, 40]  # cut at the picture
    bars = v.Pipeline([v.Resize(width_px=100, height_px=100, fit="letterbox")]).render(IMAGE, key="a")
    assert bars.back([[50.0, 5.0], [50.0, 50.0]]).keys == ["", "a"]


def test_masks_and_outlines_come_back() -> None:
    out = v.Pipeline([v.Rotate(degrees=(25, 25)), v.Resize(width_px=128, height_px=128)]).render(
        IMAGE, v.Labels(polygons=[[[60, 40], [100, 40], [100, 80], [60, 80]]]), key="a"
    )
    back = out.back(out.masks[0])
    assert back.shape == (120, 160)
    assert (np.nan_to_num(back) > 0.5)[42:78, 62:98].all()
    assert not (np.nan_to_num(back) > 0.5)[:36].any()
    assert np.isnan(back[0, 0])
    (ring,) = out.back([out.polygons[0][0]])
    assert np.abs(ring - [[60, 40], [100, 40], [100, 80], [60, 80]]).max() < 0.01
    picture = out.back(out.image)
    assert picture.shape == (120, 160, 3)


def test_a_mosaic_s_parts_go_back_to_their_own_pictures(survey: Dataset) -> None:
    pipeline = v.Pipeline([v.Mosaic(probability=1), v.Rotate(degrees=(5, 5))], seed=4)
    key = survey.by_split()["train"][0]
    _, image, labels, _ = survey[key]
    out = pipeline.render(image, labels, key=key, partners=survey)
    seen = 0
    for place, whose in enumerate(out._objects.images):
        points = out.keypoints[place]
        shown = points[:, 2] > 0
        found = out.back(points[shown, :2])
        source = survey.entries[whose].objects
        own = source.keypoints[list(source.ids).index(out._objects.ids[place])]
        assert set(found.keys) <= {whose}
        assert np.abs(found - own[shown, :2]).max(initial=0) < 0.01
        seen += len(found)
    assert seen > 10
    assert len(set(out._objects.images)) > 1
    heat = out.back(np.ones((out.size.height, out.size.width)), key=pipeline.partners(survey, key, 1)[0])
    assert np.isnan(heat).any()
    assert np.nanmax(heat) == 1
    with pytest.raises(v.VarlenError, match="is not in this variant"):
        out.back(np.ones((out.size.height, out.size.width)), key="nowhere")
    with pytest.raises(v.VarlenError, match="is neither points"):
        out.back(np.ones((3, 5)))


def test_predictions_over_an_edition(survey_folder: Path, tmp_path: Path) -> None:
    """The edition's own labels, taken for predictions, come back as the source's."""
    pipeline = v.Pipeline([v.Flip(probability=1), v.Rotate(degrees=(8, 8)), v.Resize(width_px=320, height_px=320, fit="letterbox", scope="every")])
    edition = v.export(survey_folder, pipeline, tmp_path / "edition", variants=1, originals=False, accept_loss=["all"])
    said = json.loads((edition.path / "annotations" / "train.json").read_text())
    results = [{"image_id": each["image_id"], "category_id": each["category_id"], "score": 0.5, "bbox": each["bbox"], "keypoints": each["keypoints"],
                "segmentation": each["segmentation"]} for each in said["annotations"]]  # fmt: skip
    results.append({"image_id": results[0]["image_id"], "category_id": 1, "score": 0.1, "bbox": [2, 2, 4, 4]})
    (tmp_path / "found.json").write_text(json.dumps(results))
    output = varlen("back", edition.path, tmp_path / "found.json", "--split", "train", "-o", tmp_path / "back.json").stdout
    assert "1 lie in blank area and were left out" in output
    found: list[dict[str, Any]] = json.loads((tmp_path / "back.json").read_text())
    assert len(found) == len(results) - 1
    source = v.read_dataset(survey_folder)
    near = 0
    for each in found:
        own = source.entries[each["image_id"]].objects
        points = np.array(each["keypoints"]).reshape(-1, 3) + np.array([0.5, 0.5, 0])
        best = min(np.abs((keypoints - points)[points[:, 2] > 0, :2]).max(initial=0) for keypoints in own.keypoints)
        near += best < 0.1
        x, _, width, height = each["bbox"]
        assert width > 0
        assert height > 0
        assert 0 <= x <= source.entries[each["image_id"]].size.width
    assert near == len(found)
    assert "say which with --split" in refused("back", edition.path, tmp_path / "found.json", "-o", tmp_path / "other.json")
