"""Every step of the catalogue, carried out: on ordinary pictures, on odd ones, and again from its trace."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Folder
from varlen.errors import RenderError
from varlen.kernels.pixel_digest import pixel_digest
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Part, make_objects
from varlen.render.renderer import Renderer
from varlen.steps import CATALOGUE

from tests.conftest import make_pipeline

MORE: dict[str, dict[str, Any]] = {
    "elastic": {"strength_fraction": [0.04, 0.04]},
    "perspective": {"corner_fraction": [0.15, 0.15]},
    "crop": {"mode": "around_object"},
    "blur": {"sigma_px": [1.4, 1.4]},
    "noise": {"sigma_levels": [8, 8]},
    "resize": {"width_px": 50, "height_px": 77},
    "junction": {"branches": [{"weight": 1, "steps": [{"step": "rotate"}, {"step": "mosaic"}]}, {"weight": 2, "steps": [{"step": "flip"}]}]},
}
WITHIN = [name for name, cls in CATALOGUE.items() if "within" in cls.model_fields]


class Made(Dataset):
    """Pictures made up on the spot, of any size, each with one moth-sized object of every kind."""

    def __init__(self, sizes: dict[str, Size]) -> None:
        entries = [Entry(key, "train", size, _objects(key, size)) for key, size in sizes.items()]
        skeleton = Skeleton(("head", "left tip", "right tip"), ((0, 1), (0, 2)))
        super().__init__("made", ["moth", "beetle"], entries, Folder(Path()), skeleton, digests={key: f"{n:064x}" for n, key in enumerate(sizes)})

    def pixels(self, key: str) -> np.ndarray:
        size = self.size_of(key)
        return np.random.default_rng(len(key)).integers(0, 256, (size.height, size.width, 3)).astype(np.uint8)


def _objects(key: str, size: Size) -> Any:
    x, y = size.width / 10, size.height / 10
    ring = np.array([[x, y], [6 * x, 2 * y], [5 * x, 7 * y], [2 * x, 6 * y]])
    hole = np.array([[3 * x, 3 * y], [4 * x, 3 * y], [3.5 * x, 4 * y]])
    mask = Mask.tight(np.ones((max(size.height // 3, 1), max(size.width // 3, 1)), np.uint8), size.width // 2, size.height // 2)
    points = [[3 * x, 2.5 * y, 2], [2 * x, 5 * y, 1], [0, 0, 0]]
    boxes = [[x, y, 6 * x, 7 * y], list(mask.box) if mask else [0, 0, 1, 1], [5 * x, 5 * y, 9 * x, 9 * y], [4 * x, 4 * y, 4 * x, 4 * y]]
    return make_objects(
        ["outline", "mask", "box", "no area"], key, [0, 1, 0, 1], boxes, [(Part(ring, (hole,)),), None, None, None], [None, mask, None, None],
        [points] * 4, [False, False, True, False], [{"note": 1}, {}, {}, {}],
    )  # fmt: skip


ORDINARY = Made({"a": Size(120, 90), "bb": Size(97, 131), "ccc": Size(64, 64), "dddd": Size(120, 90)})


def step_of(name: str, **more: Any) -> dict[str, Any]:
    return {"step": name, "scope": "train", **MORE.get(name, {}), **more}


def check(renderer: Renderer, image: str, variant: int) -> dict[str, Any]:
    """A variant is whole: its size, its labels and its trace agree, and nothing in them is not a number."""
    sample, trace = renderer.render(image, variant)
    objects = sample.objects
    assert list(sample.size) == trace["size"]
    assert sample.pixels.dtype == np.uint8
    for values in (objects.boxes, objects.keypoints, objects.outlines.points, objects.share, objects.growth):
        assert np.isfinite(values).all()
    if len(objects):
        assert (objects.boxes[:, :2] >= 0).all()
        assert (objects.boxes[:, 2:] <= np.array(sample.size)).all()
    assert trace["objects"]["kept"] + trace["objects"]["clipped"] == len(objects)
    assert 0.0 <= trace["blank_share"] <= 1.0
    return trace


@pytest.mark.parametrize("within", ["image", "objects"])
@pytest.mark.parametrize("name", sorted(CATALOGUE))
def test_every_step_is_made_again_from_its_trace_alone(name: str, within: str) -> None:
    if within == "objects" and name not in WITHIN:
        pytest.skip("for whole pictures only")
    inside = {"within": within} if name in WITHIN else {}
    renderer = Renderer(ORDINARY, make_pipeline({"step": "shear"}, step_of(name, **inside), seed=8, labels={"keep_share": 0.1}))
    again = Renderer(ORDINARY, renderer.pipeline.with_seed(9))
    for variant in (1, 2, 3):
        trace = json.loads(json.dumps(check(renderer, "a", variant)))
        plan = again.replan(trace)
        outcome = again.variant_labels("a", variant, plan)
        again.render_pixels(plan, outcome)
        assert json.loads(json.dumps({**outcome.trace, "seed": 8})) == trace


@pytest.mark.parametrize("name", sorted(CATALOGUE))
def test_odd_pictures_are_no_trouble(name: str) -> None:
    """One pixel, a thin line, a split of one image, objects without area: a picture or a clear refusal, never a crash."""
    for sizes in ({"tiny": Size(1, 1)}, {"thin": Size(300, 2), "high": Size(1, 40)}, {"alone": Size(40, 30)}):
        dataset = Made(sizes)
        renderer = Renderer(dataset, make_pipeline(step_of(name), seed=3, labels={"keep_share": 0, "keep_side_px": 0}))
        for key in sizes:
            for variant in (1, 2):
                check(renderer, key, variant)


def test_a_very_wide_picture() -> None:
    wide = Made({"wide": Size(30_000, 12), "other": Size(30_000, 12)})
    steps = [
        {"step": "rotate", "degrees": [3, 3], "frame": "grow"},
        {"step": "perspective"},
        {"step": "blur"},
        {"step": "resize", "width_px": 900, "height_px": 90},
    ]
    for step in [*[[one] for one in steps], steps, [{"step": "mosaic"}]]:
        check(Renderer(wide, make_pipeline(*step)), "wide", 1)


def test_what_can_t_be_made_is_refused_with_the_step_s_name() -> None:
    huge = [{"id": f"up{n}", "step": "resize", "width_px": 30_000, "height_px": 30_000} for n in range(1)]
    with pytest.raises(RenderError, match="step up0: a picture of 30000×30000 px can't be made"):
        Renderer(ORDINARY, make_pipeline(*huge)).plan("a", 1)


def test_a_junction_takes_its_branches_by_weight() -> None:
    renderer = Renderer(ORDINARY, make_pipeline(step_of("junction")))
    taken = [renderer.plan("a", variant).steps[0]["drawn"]["branch"] for variant in range(1, 601)]
    assert 0.27 < taken.count(0) / 600 < 0.4
    names = {tuple(record["id"] for record in renderer.plan("a", variant).steps) for variant in range(1, 40)}
    assert names == {("junction", "rotate", "mosaic"), ("junction", "flip")}


def test_steps_within_objects_leave_the_rest_alone() -> None:
    source = ORDINARY.pixels("a")
    inside = np.zeros(source.shape[:2], bool)
    for x0, y0, x1, y1 in ORDINARY.objects_of("a").boxes:
        inside[int(y0) : int(np.ceil(y1)), int(x0) : int(np.ceil(x1))] = True
    for name in WITHIN:
        sample, trace = Renderer(ORDINARY, make_pipeline(step_of(name, within="objects"))).render("a", 1)
        changed = (sample.pixels != source).any(axis=2)
        assert changed.any(), name
        assert not changed[~inside].any(), name
        assert {each["object"] for each in trace["steps"][0]["drawn"]["objects"]} == {"outline", "mask", "box"}


def test_a_flip_within_objects_mirrors_each_in_its_box() -> None:
    sample, _ = Renderer(ORDINARY, make_pipeline({"step": "flip", "within": "objects"}, labels={"keep_side_px": 0})).render("a", 1)
    before, after = ORDINARY.objects_of("a"), sample.objects
    x0, _, x1, _ = before.boxes[0]
    assert np.allclose(after.boxes[:3], before.boxes[:3])
    assert np.allclose(after.keypoints[0, 0, :2], [x0 + x1 - before.keypoints[0, 0, 0], before.keypoints[0, 0, 1]])
    assert after.keypoints[0, 2, 2] == 1  # the left tip is now the right one
    assert np.allclose(after.polygons[0][0].outline[:, 0], x0 + x1 - before.polygons[0][0].outline[:, 0])


def test_gray_pictures_of_one_channel() -> None:
    sample, trace = Renderer(ORDINARY, make_pipeline({"step": "grayscale", "channels": 1})).render("a", 1)
    assert sample.pixels.shape == (90, 120, 1)
    expected = ORDINARY.pixels("a") @ [0.299, 0.587, 0.114]
    assert np.abs(sample.pixels[..., 0] - expected).max() <= 0.51
    assert trace["pixel_digest"] == pixel_digest(sample.pixels)


def test_frames_of_a_group_share_their_draws_also_through_partners() -> None:
    """Two cameras side by side: what happens to one frame happens to the other, with the partner of the same camera."""
    sizes = {f"{clip}/{camera}": Size(80, 60) for clip in ("dusk", "night", "dawn") for camera in ("left", "right")}
    dataset = Made(sizes)
    dataset.entries = {key: Entry(key, "train", entry.size, entry.objects, group=key.split("/")[0]) for key, entry in dataset.entries.items()}
    steps = [{"step": "rotate"}, {"step": "crop", "mode": "random"}, {"step": "mosaic"}, {"step": "noise", "sigma_levels": [5, 5]}]
    grouped = Renderer(dataset, make_pipeline(*steps, seed=1, draw_per="group"))
    single = Renderer(dataset, make_pipeline(*steps, seed=1))

    def told(renderer: Renderer, camera: str, variant: int) -> str:
        return json.dumps(renderer.plan(f"dusk/{camera}", variant).steps).replace(f"/{camera}", "/*")

    for variant in range(1, 8):
        assert told(grouped, "left", variant) == told(grouped, "right", variant)
        assert told(single, "left", variant) != told(single, "right", variant)
        assert "dusk/" not in json.dumps(grouped.plan("dusk/left", variant).steps[2]["partners"])
