"""What a dataset's digest stands for: everything that changes pixels, labels or splits, and nothing else."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from varlen.datasets.dataset import Dataset
from varlen.datasets.digests import Digests, labels_digest, map_digest, whole_digest
from varlen.datasets.entry import Entry
from varlen.datasets.skeleton import Skeleton

from tests.core.golden.dataset import CLASSES, SKELETON, golden, png

KEY = "images/wide.png"


def remade(change: Callable[[Entry], Entry] = lambda entry: entry, **more: Any) -> str:
    """The golden dataset's digest with one image changed."""
    dataset = golden()
    entries = [change(entry) if entry.key == KEY else entry for entry in dataset.entries.values()]
    made = Dataset(more.get("name", "golden"), more.get("classes", CLASSES), more.get("order", list)(entries), dataset.files,
                   more.get("skeleton", SKELETON), more.get("extra"))  # fmt: skip
    return made.digest()


def objects(**changes: Any) -> Callable[[Entry], Entry]:
    return lambda entry: replace(entry, objects=entry.objects.replace(**{name: change(entry.objects) for name, change in changes.items()}))


def nudged(name: str, index: tuple[int, ...], by: float) -> Callable[[Any], Any]:
    def change(found: Any) -> Any:
        values = getattr(found, name).copy()
        values[index] += by
        return values

    return change


def without_a_hole(found: Any) -> Any:
    return found.outlines._replace(holes=np.zeros_like(found.outlines.holes))


def other_pixel(found: Any) -> Any:
    mask = found.masks[2]
    pixels = mask.pixels.copy()
    pixels[0, 0] ^= 1
    return (*found.masks[:2], mask._replace(pixels=pixels), *found.masks[3:])


@pytest.mark.parametrize(
    "change",
    [
        lambda entry: replace(entry, split="test"),
        lambda entry: replace(entry, size=entry.size._replace(width=95), label_map=""),
        lambda entry: replace(entry, classes=()),
        lambda entry: replace(entry, label_map=""),
        lambda entry: replace(entry, objects=entry.objects.take([0, 1, 2, 3, 4, 5])),
        objects(classes=nudged("classes", (0,), 1)),
        objects(boxes=nudged("boxes", (4, 0), 0.001)),
        objects(boxes=nudged("boxes", (4, 3), -0.001)),
        objects(keypoints=nudged("keypoints", (0, 1, 0), 0.001)),
        objects(keypoints=nudged("keypoints", (0, 1, 2), 1)),
        objects(crowd=lambda found: ~found.crowd),
        objects(masks=other_pixel),
        objects(masks=lambda found: (*found.masks[:2], found.masks[2]._replace(left=found.masks[2].left + 1), *found.masks[3:])),
        objects(masks=lambda found: (None,) * len(found)),
        objects(outlines=lambda found: found.outlines.with_points(found.outlines.points + np.array([0.001, 0.0]))),
    ],
)
def test_what_changes_it(change: Callable[[Entry], Entry]) -> None:
    assert remade(change) != golden().digest()


def test_a_digest_depends_on_classes_and_keypoint_names() -> None:
    assert remade(classes=(*CLASSES, "late")) != golden().digest()
    assert remade(skeleton=Skeleton(("head", "tip", "other tip"))) != golden().digest()


@pytest.mark.parametrize(
    "change",
    [
        lambda entry: replace(entry, extra={"camera": "other"}),
        lambda entry: replace(entry, group="dusk"),
        objects(ids=lambda found: tuple(f"other {name}" for name in found.ids)),
        objects(boxes=nudged("boxes", (4, 0), 0.0002)),  # coordinates count to a thousandth
        lambda entry: replace(entry, objects=entry.objects.take([6, 5, 4, 3, 2, 1, 0])),
    ],
)
def test_what_does_not_change_it(change: Callable[[Entry], Entry]) -> None:
    assert remade(change) == golden().digest()


def test_names_and_order_don_t_count() -> None:
    assert remade(name="other", extra={"coco": {}}, order=lambda entries: entries[::-1]) == golden().digest()


def test_pixels_count_and_so_do_levels_of_label_maps() -> None:
    for path in (KEY, "maps/0.png"):
        dataset = golden()
        files = dict(dataset.files.files)  # type: ignore[attr-defined]
        files[path] = png(np.zeros((40, 96, 3) if path == KEY else (40, 96), np.uint8))
        dataset.files = type(dataset.files)(files)  # type: ignore[call-arg]
        assert dataset.digest() != golden().digest(), path


def test_label_digests_are_of_labels_alone() -> None:
    entry = golden().entries[KEY]
    digest = labels_digest(entry, CLASSES)
    assert labels_digest(replace(entry, split="test", key="b", extra={}), CLASSES) == digest
    assert labels_digest(replace(entry, classes=()), CLASSES) != digest
    assert labels_digest(objects(crowd=lambda found: ~found.crowd)(entry), CLASSES) != digest
    assert map_digest(np.zeros((2, 3), np.uint8)) == hashlib.sha256(b"\0" * 6).hexdigest()


def test_a_whole_digest_is_over_sorted_images_of_sorted_splits() -> None:
    images = [("test", "00" * 32), ("train", "ff" * 32), ("train", "0a" * 31 + "00")]
    once = whole_digest(["b", "a"], ["head"], images)
    assert whole_digest(["a", "b"], ["head"], images[::-1]) == once
    assert whole_digest(["a", "b"], ["head"], [("train", "00" * 32), *images[1:]]) != once
    assert whole_digest(["a", "b"], ["head", "tip"], images) != once
    assert once.startswith("sha256:")


def test_digests_of_files_are_kept_by_key() -> None:
    entries = dict.fromkeys(["a", "b", "c"])
    digests = Digests(entries, {"b": "1f" * 32, "gone": "00" * 32, "c": ""})  # type: ignore[arg-type]
    assert [digests.get(key) for key in "abc"] == [None, "1f" * 32, None]
    digests["c"] = "ab" * 32
    assert [digests.get(key) for key in "abc"] == [None, "1f" * 32, "ab" * 32]
