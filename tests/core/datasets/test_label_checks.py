"""Each check of labels at its limit: just short of it nothing is said, just past it everything is."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.entry import Entry
from varlen.datasets.findings.checks import LabelChecks
from varlen.datasets.findings.kinds import EDITS, EXAMPLES, KINDS, Finding, FindingCounts, by_severity
from varlen.datasets.image_files import ImageHeader
from varlen.datasets.skeleton import Skeleton
from varlen.errors import ReadProblems
from varlen.model.geometry import Size

from tests.core.scenes import CLASSES, objects_of, polygon, ring, square

SIZE = Size(200, 100)
Rows = list[dict[str, Any]]


def entry(key: str, *rows: dict[str, Any], split: str = "train", size: Size = SIZE, classes: tuple[str, ...] = ()) -> Entry:
    return Entry(key, split, size, objects_of(key, list(rows)), classes=classes)


def checked(*entries: Entry, keypoints: tuple[str, ...] = ()) -> dict[str, Finding]:
    checks = LabelChecks(CLASSES, Skeleton(keypoints))
    for each in entries:
        checks.labels(each)
    return {finding.kind: finding for finding in checks.findings(ReadProblems(strict=False))}


def of_boxes(*boxes: tuple[float, float, float, float], **more: Any) -> dict[str, Finding]:
    """What is found in one image with these boxes, of both classes so that neither is missed."""
    rows: Rows = [{"box": list(box), **more} for box in boxes]
    return checked(entry("a", *rows, {"box": [150, 80, 160, 90], "class": 1}, {"box": [150, 80, 161, 90]}))


@pytest.mark.parametrize(
    ("box", "kinds"),
    [
        ((10, 10, 30, 30), set()),
        ((-0.5, 10, 30, 30), set()),
        ((-0.6, 10, 30, 30), {"box-outside"}),
        ((10, -0.6, 30, 30), {"box-outside"}),
        ((180, 10, 200.5, 30), set()),
        ((180, 10, 200.6, 30), {"box-outside"}),
        ((10, 80, 30, 100.6), {"box-outside"}),
        ((10, 10, 10, 30), {"box-empty"}),
        ((10, 30, 30, 10), {"box-empty"}),
        ((0, 10, 200, 20), set()),
        ((0, 10, 199, 19.9), {"box-extreme"}),
        ((10, 0, 14.9, 100), {"box-extreme"}),
    ],
)
def test_boxes_at_the_limits(box: tuple[float, float, float, float], kinds: set[str]) -> None:
    found = of_boxes(box)
    assert set(found) == kinds
    for finding in found.values():
        assert (finding.count, finding.places) == (1, [("a", "0")])
        assert finding.examples[0].startswith("a: ash veil 0: ")


def test_what_is_said_of_a_box_names_its_place() -> None:
    assert of_boxes((-3, 10, 30, 30))["box-outside"].examples == ["a: ash veil 0: -3 10 30 30 in 200×100 px"]
    assert of_boxes((10, 30, 30, 10))["box-empty"].examples == ["a: ash veil 0: 20 × -20 px"]


def test_the_same_box_twice_is_one_too_many_only_in_the_same_class() -> None:
    twice = of_boxes((10, 10, 30, 30), (10.01, 10, 30, 30.02))
    assert twice["box-duplicate"].examples == ["a: ash veil 1: same as 0"]
    assert "box-duplicate" not in of_boxes((10, 10, 30, 30), (10.2, 10, 30, 30))
    other = checked(entry("a", {"box": [10, 10, 30, 30]}, {"box": [10, 10, 30, 30], "class": 1}))
    assert other == {}


@pytest.mark.parametrize(
    ("point", "off"),
    [
        ([66, 30, 2], False), ([66.1, 30, 2], True), ([66.1, 30, 0], False), ([66.1, 30, 1], True), ([14, 30, 2], False), ([13.9, 30, 2], True),
        ([30, 14, 2], False), ([30, 13.9, 2], True), ([30, 46, 2], False), ([30, 46.1, 2], True),
    ],
)  # fmt: skip
def test_a_keypoint_may_lie_a_tenth_and_two_pixels_outside_its_box(point: list[float], off: bool) -> None:
    """A box of 40 × 20 at (20, 20): 0.1 · 40 + 2 = 6 px on every side."""
    one = entry("a", {"box": [20, 20, 60, 40], "points": [point]}, {"box": [100, 20, 120, 40], "class": 1, "points": [[110, 30, 2]]})
    found = checked(one, keypoints=("head",))
    assert ("keypoint-outside-box" in found) is off
    if off:
        assert found["keypoint-outside-box"].examples == [f"a: ash veil 0: head at {point[0]:g} {point[1]:g}"]


def test_an_outline_that_crosses_itself_is_named_once() -> None:
    bow = ring((10, 10), (40, 40), (40, 10), (10, 40))
    found = checked(
        entry("a", {"polygon": polygon(bow, bow + 50)}, {"polygon": polygon(square(100, 10, 130, 40)), "class": 1}),
        entry("b", {"polygon": polygon(square(10, 10, 90, 90), holes=(ring((20, 20), (50, 50), (50, 20), (20, 50)),))}),
    )
    assert found["outline-crossing"].examples == ["a: ash veil 0", "b: ash veil 0"]


# --- classes ---


def test_classes_nobody_uses_or_that_a_split_has_none_of() -> None:
    one, both = {"box": [10, 10, 30, 30]}, [{"box": [10, 10, 30, 30]}, {"box": [50, 10, 70, 30], "class": 1}]
    assert checked(entry("a", one))["class-unused"].examples == ["copper hook"]
    found = checked(entry("a", *both), entry("b", one, split="validation"), entry("c", *both, split="test"))
    assert set(found) == {"class-missing-in-split"}
    assert found["class-missing-in-split"].examples == ["copper hook: none in validation"]
    assert checked(entry("a", *both), entry("b", one, split="validation", classes=("copper hook",))) == {}


# --- signs of another convention of boxes ---


def spread(count: int, **more: Any) -> Rows:
    return [{"box": [10 + 9 * n, 20, 18 + 9 * n, 30 + n], "class": n % 2, **more} for n in range(count)]


def test_five_boxes_in_the_corner_are_shares_of_the_sides() -> None:
    small: Rows = [{"box": [0.1 * n, 0.2, 0.1 * n + 0.3, 0.9], "class": n % 2} for n in range(5)]
    assert checked(entry("a", *small))["boxes-are-fractions"].examples == ["all 5 boxes end within 2 px of the top left corner"]
    assert "boxes-are-fractions" not in checked(entry("a", *small[:4]))
    assert "boxes-are-fractions" in checked(entry("a", *small, {"box": [1, 1, 2, 2]}))
    assert "boxes-are-fractions" not in checked(entry("a", *small, {"box": [1, 1, 2.1, 2]}))
    assert "boxes-are-fractions" in checked(entry("a", *small), entry("thumb", {"box": [1, 1, 9, 9]}, size=Size(16, 16)))
    assert "boxes-are-fractions" not in checked(entry("a", *small), entry("thumb", {"box": [1, 1, 9, 9]}, size=Size(17, 17)))


def test_over_a_fifth_of_the_boxes_sticking_out_right_and_below_are_centres() -> None:
    outside: Rows = [{"box": [180, 20, 202, 40]}, {"box": [150, 80, 170, 101.5], "class": 1}]
    assert checked(entry("a", *spread(7), *outside))["boxes-are-centres"].examples == [
        "2 of 9 boxes stick out to the right or below, none to the left or above"
    ]
    assert "boxes-are-centres" not in checked(entry("a", *spread(8), *outside))
    for left in ([-1.5, 20, 20, 40], [20, -1.5, 40, 20]):
        assert "boxes-are-centres" not in checked(entry("a", *spread(7), *outside, *outside, {"box": left}))
    assert "boxes-are-centres" in checked(entry("a", *spread(7), *outside, {"box": [-0.9, 20, 20, 40]}, *outside))


@given(st.lists(st.integers(0, 5), min_size=1, max_size=4), st.integers(0, 2**32 - 1))
def test_checking_in_parts_and_adding_up_says_the_same(parts: list[int], seed: int) -> None:
    """However the images are divided among processes."""
    rng = np.random.default_rng(seed)
    entries = []
    for number in range(sum(parts)):
        low = rng.uniform(-3, 150, 2)
        rows: Rows = [{"box": [*low, *(low + rng.uniform(-1, 60, 2))], "class": int(rng.integers(2))} for _ in range(3)]
        entries.append(entry(f"{number}", *rows, split=("train", "test")[number % 2]))
    whole, sum_of_parts = LabelChecks(CLASSES, Skeleton()), LabelChecks(CLASSES, Skeleton())
    rest = list(entries)
    for count in parts:
        part = LabelChecks(CLASSES, Skeleton())
        for one, digest in ((rest.pop(0), f"{number % 2}") for number in range(count)):
            for checks in (part, whole):
                checks.labels(one)
                checks.image(one.key, one.split, digest)
        sum_of_parts.add(part)
    said = [[finding.to_json() for finding in checks.findings(ReadProblems(strict=False))] for checks in (whole, sum_of_parts)]
    assert said[0] == said[1]
    assert (whole._left, whole._right, whole._boxes) == (sum_of_parts._left, sum_of_parts._right, sum_of_parts._boxes)


# --- files ---


def test_files_of_equal_content() -> None:
    checks = LabelChecks((), Skeleton())
    for key, split, digest in (("a", "train", "1"), ("b", "train", "1"), ("c", "test", "1"), ("d", "test", "2")):
        checks.image(key, split, digest)
    found = {finding.kind: (finding.examples, finding.places) for finding in checks.findings(ReadProblems(strict=False))}
    assert found == {"duplicate": (["a = b"], [("b", "")]), "duplicate-across-splits": (["a = c"], [("c", "")])}


@pytest.mark.parametrize(
    ("key", "format", "mode", "orientation", "bits", "kinds"),
    [
        ("a.JPG", "JPEG", "RGB", 1, 8, set()),
        ("a.jpeg", "JPEG", "RGB", 1, 8, set()),
        ("a.png", "JPEG", "RGB", 1, 8, {"wrong-suffix"}),
        ("a.tif", "TIFF", "RGB", 6, 8, {"exif-turned"}),
        ("a.png", "PNG", "I;16", 1, 16, {"16-bit"}),
        ("a.png", "PNG", "P", 1, 8, {"palette"}),
        ("a.png", "PNG", "RGBA", 1, 8, {"alpha"}),
        ("a.png", "PNG", "LA", 1, 8, {"alpha"}),
        ("a.png", "PNG", "L", 1, 8, {"gray"}),
        ("a.bmp", "BMP", "1", 1, 1, {"gray"}),
        ("a.jpg", "JPEG", "CMYK", 3, 8, {"cmyk", "exif-turned"}),
    ],
)
def test_headers(key: str, format: str, mode: str, orientation: int, bits: int, kinds: set[str]) -> None:
    checks = LabelChecks((), Skeleton())
    checks.header(key, ImageHeader(format, mode, *SIZE, orientation, bits, 1000))
    found = checks.findings(ReadProblems(strict=False))
    assert {finding.kind for finding in found} == kinds
    assert all(finding.places == [(key, "")] for finding in found)


# --- counting ---


def test_a_few_examples_and_all_places_the_worst_kind_first() -> None:
    counts, more = FindingCounts(), FindingCounts()
    for number in range(EXAMPLES + 2):
        (counts if number < 3 else more).add("gray", f"g{number}", f"i{number}")
    more.add("box-empty", "e", "i1", "o1")
    counts.extend(more)
    worst, last = by_severity(counts.findings())
    assert (worst.kind, worst.severity, worst.places) == ("box-empty", "error", [("i1", "o1")])
    assert (last.count, last.examples) == (EXAMPLES + 2, [f"g{number}" for number in range(EXAMPLES)])
    assert [image for image, _ in last.places] == [f"i{number}" for number in range(EXAMPLES + 2)]


def test_every_kind_says_why_and_what_can_be_done() -> None:
    assert set(EDITS) <= set(KINDS)
    for kind, (severity, why, remedy) in KINDS.items():
        assert severity in ("error", "warning", "note"), kind
        assert why
        assert remedy
