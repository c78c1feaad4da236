"""Outlines, masks and label maps: turned into each other, covered, and carried alike."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.image_files import encode
from varlen.datasets.sources import Folder
from varlen.labels.label_maps import VOID
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Objects, Outlines, Part, make_objects
from varlen.render.renderer import Renderer
from varlen.shapes.polygons import clipped, mask_from_polygon, polygon_from_mask

from tests.conftest import make_pipeline

PIXELS = st.lists(st.lists(st.integers(0, 1), min_size=9, max_size=9), min_size=1, max_size=9)
SIZE = Size(160, 120)


@settings(max_examples=200)
@given(PIXELS)
def test_a_mask_s_outlines_give_exactly_the_mask(rows: list[list[int]]) -> None:
    """With all its parts and holes; Shapely finds them valid and of the same area."""
    mask = Mask.tight(np.array(rows, np.uint8), 3, 5)
    if mask is None:
        return
    polygon = polygon_from_mask(mask)
    back = mask_from_polygon(polygon)
    assert back is not None
    assert (back.left, back.top) == (mask.left, mask.top)
    assert np.array_equal(back.pixels, mask.pixels)
    shapes = [shapely.Polygon(part.outline, part.holes) for part in polygon]
    assert all(shape.is_valid for shape in shapes)
    assert sum(shape.area for shape in shapes) == np.count_nonzero(mask.pixels)


@settings(max_examples=80)
@given(st.lists(st.tuples(st.floats(0, 30), st.floats(0, 30)), min_size=3, max_size=9))
def test_filling_takes_the_pixels_whose_centres_lie_inside(corners: list[tuple[float, float]]) -> None:
    shape = shapely.Polygon(corners)
    if not shape.is_valid or shape.area < 1:
        return
    hole = shape.centroid.buffer(1.5).intersection(shape.buffer(-0.5))
    rings = (np.array(hole.exterior.coords)[:-1],) if hole.geom_type == "Polygon" and not hole.is_empty else ()
    filled = mask_from_polygon((Part(np.array(corners), rings),))
    whole = np.zeros((31, 31), np.uint8)
    if filled is not None:
        whole[filled.top : filled.top + filled.pixels.shape[0], filled.left : filled.left + filled.pixels.shape[1]] = filled.pixels
    y, x = np.mgrid[0:31, 0:31] + 0.5
    expected = shapely.contains_xy(shape.difference(hole) if rings else shape, x, y)
    near = shapely.distance(shape.boundary.union(hole.boundary), shapely.points(x, y)) < 1e-6
    assert np.array_equal(whole.astype(bool) | near, expected | near)


@given(st.lists(st.tuples(st.integers(-12, 52), st.integers(-12, 42)), min_size=3, max_size=14, unique=True), st.booleans())
def test_outlines_cut_by_the_frame_are_what_shapely_finds(corners: list[tuple[int, int]], star: bool) -> None:
    """Rings of every kind, many of which cross the frame often or themselves, or run along its border."""
    ring = np.array(corners, np.float64)
    if star:  # around a middle: these don't cross themselves
        middle = ring - ring.mean(axis=0)
        ring = ring[np.argsort(np.arctan2(middle[:, 1], middle[:, 0]))]
    window = (0.0, 0.0, 40.0, 30.0)
    expected = shapely.make_valid(shapely.Polygon(ring)).intersection(shapely.box(*window))
    [parts] = clipped([(Part(ring),)], window)
    found = [shapely.Polygon(part.outline, part.holes) for part in parts]
    assert all(each.is_valid for each in found)
    together = shapely.union_all(found) if found else shapely.Polygon()
    assert sum(each.area for each in found) == pytest.approx(expected.area, abs=1e-5)
    assert together.symmetric_difference(expected).area < 1e-5


@given(st.lists(st.integers(0, 3), max_size=6), st.data())
def test_outlines_of_some_objects(counts: list[int], data: st.DataObject) -> None:
    """`take` and `of` agree with lists of polygons."""
    polygons = [
        tuple(Part(np.full((3 + n, 2), 10.0 * place + n), (np.full((4, 2), n + 0.5),)) for n in range(count)) or None
        for place, count in enumerate(counts)
    ]
    outlines = Outlines.of(polygons)
    places = data.draw(st.lists(st.sampled_from(range(len(counts))), unique=True)) if counts else []
    for found, expected in zip(outlines.take(places).polygons(len(places)), [polygons[place] for place in places], strict=True):
        assert repr(found) == repr(expected)


class Scene(Dataset):
    """One picture with given objects, its label map and its image-level classes; a second one for partners."""

    def __init__(self, objects: Objects, levels: np.ndarray | None = None, folder: Path | None = None, partner: Objects | None = None) -> None:
        root = folder or Path()
        if levels is not None:
            (root / "map.png").write_bytes(encode(levels[:, :, None], "png"))
        none = objects.take([])
        entries = [
            Entry("a.png", "train", SIZE, objects, classes=("still",), label_map="map.png" if levels is not None else ""),
            Entry("b.png", "train", SIZE, partner or none, classes=("windy",), label_map="map.png" if levels is not None else ""),
        ]
        super().__init__("scene", ["blob"], entries, Folder(root), digests={"a.png": "0" * 64, "b.png": "1" * 64})

    def pixels(self, key: str) -> np.ndarray:
        return np.full((SIZE.height, SIZE.width, 3), 60 if key == "a.png" else 200, np.uint8)


def disc(x: float, y: float, radius: float) -> np.ndarray:
    angles = np.arange(40) * np.pi / 20
    return np.stack([x + radius * np.cos(angles), y + radius * np.sin(angles)], 1)


def discs(image: str, *circles: tuple[float, float, float], kind: str = "outline", crowd: bool = False) -> Objects:
    rings = [disc(*circle) for circle in circles]
    masks = [mask_from_polygon((Part(ring),)) for ring in rings]
    boxes = [[*ring.min(0), *ring.max(0)] if kind == "outline" else list(mask.box) for ring, mask in zip(rings, masks, strict=True)]
    return make_objects(
        [str(n) for n in range(len(rings))], image, [0] * len(rings), boxes, [(Part(ring),) if kind == "outline" else None for ring in rings],
        [mask if kind == "mask" else None for mask in masks], [[[x, y, 2]] for x, y, _ in circles], [crowd] * len(rings), [{}] * len(rings),
    )  # fmt: skip


GEOMETRY: dict[str, dict[str, Any]] = {
    "flip": {}, "quarter_turn": {}, "rotate": {"degrees": [20, 30]}, "shear": {"x_degrees": [15, 15]}, "shift": {}, "scale": {"factor": [1.4, 1.4]},
    "crop": {}, "perspective": {"corner_fraction": [0.1, 0.1]}, "elastic": {"strength_fraction": [0.04, 0.04]},
    "resize": {"width_px": 130, "height_px": 140}, "pad": {"width_px": 190},
}  # fmt: skip


@pytest.mark.parametrize("name", GEOMETRY)
def test_label_maps_masks_and_outlines_move_alike(name: str, tmp_path: Path) -> None:
    """A disc as a label map, as a mask and as an outline: after any geometry step all three cover the same pixels."""
    circle = (80.0, 60.0, 25.0)
    step = {"step": name, "scope": "train", **GEOMETRY[name]}
    stamp = discs("a.png", circle, kind="mask").masks[0]
    assert stamp is not None
    levels = np.zeros((SIZE.height, SIZE.width), np.uint8)
    levels[stamp.top : stamp.top + len(stamp.pixels), stamp.left : stamp.left + stamp.pixels.shape[1]] = stamp.pixels
    for seed in (1, 2):
        found = []
        for kind in ("mask", "outline"):
            scene = Scene(discs("a.png", circle, kind=kind), levels, tmp_path)
            sample, _ = Renderer(scene, make_pipeline(step, seed=seed)).render("a.png", 1)
            assert sample.label_map is not None
            objects = sample.objects
            mask = objects.masks[0] or mask_from_polygon(objects.polygons[0] or ())
            assert mask is not None
            found.append(np.zeros_like(sample.label_map))
            found[-1][mask.top : mask.top + len(mask.pixels), mask.left : mask.left + mask.pixels.shape[1]] = mask.pixels
        moved = sample.label_map == 1
        # The same nearest pixels, but for centres that fall on the line between two.
        assert (moved != (found[0] == 1)).sum() <= 0.01 * moved.sum()
        union, both = (moved | (found[1] == 1)).sum(), (moved & (found[1] == 1)).sum()
        assert both / union > 0.93
        assert set(np.unique(sample.label_map)) <= {0, 1, VOID}


def test_a_cutout_hides_and_counts(tmp_path: Path) -> None:
    """What is hidden counts toward the keep rule; shapes stay; keypoints under it are hidden; the label map knows nothing there."""
    hide = {"id": "hide", "step": "cutout", "count": [1, 1], "size_fraction": [0.5, 0.5]}
    seen = set()
    for seed in range(25):
        before = discs("a.png", (40, 40, 18), (120, 80, 18), kind="mask" if seed % 2 else "outline")
        scene = Scene(before, np.zeros((120, 160), np.uint8), tmp_path)
        sample, trace = Renderer(scene, make_pipeline(hide, seed=seed, labels={"keep_share": 0.4})).render("a.png", 1)
        x, y, wide, high = trace["steps"][0]["drawn"]["areas"][0]
        area = shapely.box(round(x * 160), round(y * 120), round((x + wide) * 160), round((y + high) * 120))
        assert sample.label_map is not None
        assert ((sample.label_map == VOID) == (sample.pixels[..., 0] == 128)).all()
        for place, name in enumerate(before.ids):
            shape = shapely.Polygon(disc(*[(40, 40, 18), (120, 80, 18)][place]))
            left = 1 - shape.intersection(area).area / shape.area
            outcomes = [outcome for kind in ("dropped", "clipped_by") for outcome in trace["objects"][kind] if outcome["id"] == name]
            if left < 0.37:
                assert outcomes[0]["reason"].startswith("covered")
                seen.add("dropped")
            elif 0.43 < left < 0.99:
                after = sample.objects.take([sample.objects.ids.index(name)])
                assert outcomes[0]["step"] == "hide"
                assert np.array_equal(after.boxes[0], before.boxes[place])
                assert after.share[0] == pytest.approx(left, abs=0.03)
                hidden = area.contains(shapely.Point(*before.keypoints[place, 0, :2]))
                assert after.keypoints[0, 0, 2] == (1 if hidden else 2)
                seen.add("covered")
            elif left == 1:
                assert not outcomes
    assert seen == {"dropped", "covered"}


def test_areas_keep_off_objects() -> None:
    scene = Scene(discs("a.png", (40, 40, 25), (120, 80, 25)))
    off = {"step": "cutout", "count": [3, 3], "size_fraction": [0.2, 0.2], "keep_off": "objects"}
    for seed in range(10):
        sample, trace = Renderer(scene, make_pipeline(off, seed=seed)).render("a.png", 1)
        assert trace["objects"]["kept"] == 2
        assert (sample.pixels == 128).any()
        for x0, y0, x1, y1 in sample.objects.boxes.astype(int):
            assert (sample.pixels[y0:y1, x0:x1] == 60).all()


@pytest.mark.parametrize("kind", ["outline", "mask"])
def test_pasted_objects_take_their_place_from_what_is_under_them(kind: str, tmp_path: Path) -> None:
    """Pixels, outlines, masks, boxes and the label map tell the same story."""
    paste = {"id": "guests", "step": "paste_objects", "count": [1, 1], "scale_factor": [1, 1]}
    met = 0
    for seed in range(30):
        levels = np.full((120, 160), 7, np.uint8)
        scene = Scene(discs("a.png", (60, 50, 30), (110, 70, 25), kind=kind), levels, tmp_path, discs("b.png", (80, 60, 20), kind=kind))
        sample, trace = Renderer(scene, make_pipeline(paste, seed=seed, labels={"keep_share": 0.1})).render("a.png", 1)
        objects = sample.objects
        guests = [place for place, image in enumerate(objects.images) if image == "b.png"]
        assert len(guests) == len(trace["steps"][0]["pasted"])
        if not guests:
            assert (sample.pixels == 60).all()
            continue
        shapes = [
            shapely.union_all([shapely.Polygon(part.outline, part.holes) for part in _polygon(objects, place)]) for place in range(len(objects))
        ]
        bright = (sample.pixels[..., 0] > 130).sum()
        assert shapes[guests[0]].area == pytest.approx(bright, rel=0.06)
        for place, shape in enumerate(shapes):
            if place not in guests:
                assert shape.intersection(shapes[guests[0]]).area < 1.0
                assert np.allclose(objects.boxes[place], shape.bounds, atol=1.01)
                if objects.share[place] < 0.999:
                    met += 1
                    outcome = next(
                        outcome for outcome in trace["objects"]["clipped_by"] if (outcome["image"], outcome["id"]) == ("a.png", objects.ids[place])
                    )
                    assert (outcome["reason"], outcome["step"]) == ("partly covered", "guests")
    assert met >= 5


def _polygon(objects: Objects, place: int) -> Any:
    mask = objects.masks[place]
    return polygon_from_mask(mask) if mask is not None else objects.polygons[place]


def test_regions_of_many_stay_while_any_part_is_seen() -> None:
    """They say where not to look, so they are not dropped for being small."""
    part = {"step": "crop", "mode": "window", "left_px": 68, "width_px": 90, "height_px": 120, "scope": "train"}
    for crowd, left in ((True, 1), (False, 0)):
        scene = Scene(discs("a.png", (40, 40, 30), crowd=crowd))
        assert len(Renderer(scene, make_pipeline(part, labels={"keep_side_px": 1})).variant_labels("a.png", 1).objects) == left


def test_image_classes_of_composites_are_weighed() -> None:
    scene = Scene(discs("a.png", (40, 40, 30)))
    sample, _ = Renderer(scene, make_pipeline({"step": "mixup", "weight": [0.3, 0.3]})).render("a.png", 1)
    assert sample.classes == {"still": 0.3, "windy": 0.7}
    assert (sample.pixels == round(0.3 * 60 + 0.7 * 200)).all()
    assert sample.objects.attributes[0]["weight"] == 0.3
    quarters, _ = Renderer(scene, make_pipeline({"step": "mosaic", "centre_fraction": [0.5, 0.5]})).render("a.png", 1)
    assert quarters.classes == {"still": 0.25, "windy": 0.75}
    assert Renderer(scene, make_pipeline({"step": "flip"})).variant_labels("a.png", 1).classes == {"still": 1.0}


def test_crop_then_pad_brings_back_place_but_not_what_was_cut() -> None:
    scene = Scene(discs("a.png", (40, 40, 30), (150, 60, 20)))
    steps = [
        {"step": "crop", "mode": "centre", "fraction": 0.75, "scope": "train"},
        {"step": "pad", "width_px": 160, "height_px": 120},
    ]
    outcome = Renderer(scene, make_pipeline(*steps)).variant_labels("a.png", 1)
    assert outcome.size == SIZE
    assert np.allclose(outcome.objects.boxes[0], [20, 15, 70, 70])
    assert [outcome["step"] for outcome in outcome.trace["objects"]["dropped"]] == ["crop"]
    polygon = shapely.Polygon(outcome.objects.polygons[0][0].outline)
    assert polygon.area == pytest.approx(shapely.Polygon(disc(40, 40, 30)).intersection(shapely.box(20, 15, 140, 105)).area)
