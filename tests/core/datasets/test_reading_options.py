"""Options of reading a dataset: splits that stay, classes, mirror pairs, levels, windows; each in what it does to labels and pixels."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from varlen.datasets.convert import convert
from varlen.datasets.findings import check_dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.level_rules import LevelRule
from varlen.datasets.skeleton import Skeleton, mirror_pairs
from varlen.datasets.splits import draw_splits
from varlen.editions.export_spec import ExportSpec
from varlen.errors import ArrayError, DatasetError, EditionError, LevelsUnclear, ReadProblems
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline
from tests.core.datasets.trees import levels, write_tree


def folders(folder: Path, **counts: int) -> Path:
    return write_tree(folder, {f"{name}/{n:03d}.png": (20 + n % 7, 16) for name, count in counts.items() for n in range(count)})


def splits_of(found: Any) -> dict[str, str]:
    return {found.source_digest(key): entry.split for key, entry in found.entries.items()}


def test_splits_by_shares_each_class_alike(tmp_path: Path) -> None:
    folder = folders(tmp_path, moth=50, lamp=20, reed=10)
    found = read_dataset(folder, options=ImportOptions(splits="drawn", shares=(0.2, 0.1)))
    counts = Counter((key.split("/")[0], entry.split) for key, entry in found.entries.items())
    for name, count in (("moth", 50), ("lamp", 20), ("reed", 10)):
        assert [counts[name, split] for split in ("train", "validation", "test")] == [0.7 * count, 0.2 * count, 0.1 * count]
    other = read_dataset(folder, options=ImportOptions(splits="drawn", shares=(0.2, 0.1), seed=1))
    assert splits_of(other) != splits_of(found)
    assert other.images_by_split() == found.images_by_split()


def test_a_grown_dataset_moves_no_known_image(tmp_path: Path) -> None:
    options = ImportOptions(splits="drawn", shares=(0.2, 0.1))
    before = splits_of(read_dataset(folders(tmp_path, moth=20, lamp=10), options=options))
    write_tree(tmp_path, {f"moth/a{n}.png": (40, 9 + n) for n in range(12)} | {"reed/x.png": (50, 50)})
    after = splits_of(read_dataset(tmp_path, options=options, known_splits=before))
    assert {digest: after[digest] for digest in before} == before
    counts = Counter(after.values())
    assert abs(counts["validation"] - 0.2 * 43) <= 2
    assert abs(counts["test"] - 0.1 * 43) <= 2


def test_there_is_always_something_to_train_on() -> None:
    """Two groups of six, and half of all wanted for the other splits: one of them is for training."""
    keys = {"": [f"{group}{n}" for group in "ab" for n in range(6)]}
    found = draw_splits(keys, {key: key[0] for key in keys[""]}, (0.25, 0.25), 0)
    assert Counter(found.values())["train"] == 6
    assert {len({found[f"{group}{n}"] for n in range(6)}) for group in "ab"} == {1}


def test_splits_that_were_written_down_stay(tmp_path: Path) -> None:
    found = read_dataset(folders(tmp_path / "in", moth=20, lamp=10))
    assert found.splits_drawn
    convert(found, tmp_path / "kept")
    kept = read_dataset(tmp_path / "kept")
    assert not kept.splits_drawn
    assert splits_of(kept) == splits_of(found)


def test_only_some_classes(tmp_path: Path) -> None:
    folder = folders(tmp_path, moth=6, lamp=4, reed=3)
    found = read_dataset(folder, options=ImportOptions(keep_classes=("reed", "moth")))
    assert found.classes == ("reed", "moth")
    assert len(found.entries) == 9
    with pytest.raises(DatasetError, match="there is no class 'mth'; there are lamp, moth, reed"):
        read_dataset(folder, options=ImportOptions(keep_classes=("mth",)))


@pytest.mark.parametrize(
    ("names", "pairs"),
    [
        (("L_hand", "R_hand"), [(0, 1)]), (("LEFT_HIP", "RIGHT_HIP"), [(0, 1)]), (("leftfoot", "rightfoot"), [(0, 1)]), (("EyeL", "EyeR"), [(0, 1)]),
        (("hand_l", "hand_r"), [(0, 1)]), (("lHip", "rHip"), [(0, 1)]), (("HipLeft", "HipRight"), [(0, 1)]), (("foot.L", "foot.R"), [(0, 1)]),
        (("lknee", "rknee"), [(0, 1)]), (("left tip", "right tip", "tail"), [(0, 1)]), (("upper-Left-wing", "upper-Right-wing"), [(0, 1)]),
        (("leftleft", "rightleft"), [(0, 1)]), (("head", "tail"), []), (("leftover", "tail"), []), (("l", "r"), [(0, 1)]), (("left", "tail"), []),
    ],
)  # fmt: skip
def test_mirror_partners_by_name(names: tuple[str, ...], pairs: list[tuple[int, int]]) -> None:
    swap = Skeleton(names).swap().tolist()
    assert [(a, b) for a, b in enumerate(swap) if a < b] == pairs
    assert [swap[swap[place]] for place in range(len(names))] == list(range(len(names)))


def test_sides_without_a_partner_are_named() -> None:
    assert Skeleton(("left tip", "head")).unpaired() == ["left tip"]
    assert Skeleton(("leftfoot", "lefthand", "righthand")).unpaired() == ["leftfoot"]
    assert Skeleton(("leftover", "head")).unpaired() == []
    chosen = ImportOptions(mirror_pairs=(("a", "b"),)).skeleton_of(Skeleton(("a", "b", "left", "right")))
    assert mirror_pairs(chosen) == [["a", "b"]]
    with pytest.raises(DatasetError, match="there is no keypoint 'c'"):
        ImportOptions(mirror_pairs=(("a", "c"),)).skeleton_of(Skeleton(("a", "b")))


def arrows(folder: Path) -> Path:
    return write_tree(folder, {"images/a.png": (40, 30), "labels/a.txt": "0 .3 .3 .2 .2\n2 .7 .7 .2 .2\n", "data.yaml": "names: [left, right, lamp]"})


@pytest.mark.parametrize(("direction", "seen"), [("horizontal", ["right", "lamp"]), ("vertical", ["left", "lamp"]), ("both", ["left", "lamp"])])
def test_a_mirror_from_left_to_right_exchanges_classes(tmp_path: Path, direction: str, seen: list[str]) -> None:
    found = read_dataset(arrows(tmp_path), options=ImportOptions(mirror_classes=(("left", "right"),)))
    assert found.digest() != read_dataset(tmp_path).digest()
    for steps in ([{"step": "flip", "direction": direction}], [{"step": "rotate", "degrees": [20, 20]}, {"step": "flip", "direction": direction}]):
        objects = Renderer(found, make_pipeline(*steps)).variant_labels("images/a.png", 1).objects
        assert [found.classes[number] for number in objects.classes] == seen
    twice = Renderer(found, make_pipeline({"step": "flip"}, {"step": "flip"})).variant_labels("images/a.png", 1).objects
    assert [found.classes[number] for number in twice.classes] == ["left", "lamp"]


def test_classes_of_images_and_of_pixels_too(tmp_path: Path) -> None:
    whole = read_dataset(
        write_tree(tmp_path / "whole", {"train/left/a.png": (20, 16), "train/right/b.png": (20, 16)}),
        options=ImportOptions(mirror_classes=(("left", "right"),)),
    )
    flipped = Renderer(whole, make_pipeline({"step": "flip"}))
    assert flipped.variant_labels("train/left/a.png", 1).classes == {"right": 1.0}
    table = {"0": {"name": "ground"}, "1": {"name": "left"}, "2": {"name": "right"}}
    masks = read_dataset(
        write_tree(tmp_path / "masks", {"images/a.png": (40, 30), "masks/a.png": levels(0, 1), "classes.json": table}),
        options=ImportOptions(mirror_classes=(("left", "right"),)),
    )
    renderer = Renderer(masks, make_pipeline({"step": "flip"}))
    assert np.array_equal(renderer.label_map(renderer.plan("images/a.png", 1)), levels(2, 0))  # type: ignore[arg-type]


RAMP = np.linspace(-2.0, 6.0, 48, dtype=np.float32).reshape(6, 8)


@pytest.mark.parametrize(
    ("rule", "low", "high"),
    [("0..4", 0.0, 4.0), ("min-max", -2.0, 6.0), ("percentile", float(np.percentile(RAMP, 1)), float(np.percentile(RAMP, 99)))],
)
def test_levels_by_a_rule(tmp_path: Path, rule: str, low: float, high: float) -> None:
    import tifffile

    tifffile.imwrite(tmp_path / "a.tif", RAMP)
    with pytest.raises(LevelsUnclear, match=r"a\.tif: float levels from -2 to 6; .*--levels"):
        read_dataset(tmp_path).pixels("a.tif")
    wanted = np.floor(np.clip((RAMP.astype(np.float64) - low) / (high - low) * 255, 0, 255) + 0.5)
    found = read_dataset(tmp_path, options=ImportOptions(levels=rule))
    assert np.abs(found.pixels("a.tif")[:, :, 0].astype(int) - wanted).max() <= 0
    assert read_dataset(tmp_path, options=ImportOptions(levels=rule)).digest() == found.digest()
    assert str(LevelRule.parse(rule)) == rule


def test_every_kind_of_levels_is_told(tmp_path: Path) -> None:
    """None is misread: refused with type and range, listed among the findings, and read once there is a rule."""
    import tifffile

    rng = np.random.default_rng(3)
    kinds = {
        "float.tif": rng.random((16, 20)).astype(np.float32), "signed.tif": rng.integers(-500, 500, (16, 20)).astype(np.int16),
        "wide.tif": rng.integers(0, 2**31, (16, 20)).astype(np.int32), "bands.tif": rng.integers(0, 255, (16, 20, 6)).astype(np.uint8),
        "deep.tif": rng.integers(0, 65535, (16, 20, 5)).astype(np.uint16),
    }  # fmt: skip
    for name, pixels in kinds.items():
        tifffile.imwrite(tmp_path / name, pixels, **({"photometric": "minisblack", "planarconfig": "contig"} if pixels.ndim == 3 else {}))
    tifffile.imwrite(tmp_path / "pages.tif", rng.integers(0, 255, (3, 16, 20)).astype(np.uint8), photometric="minisblack")
    tifffile.imwrite(tmp_path / "plain16.tif", rng.integers(0, 65535, (16, 20)).astype(np.uint16))
    problems = ReadProblems(strict=False)
    dataset = read_dataset(tmp_path, problems=problems)
    said = {finding.kind: finding for finding in check_dataset(dataset, problems)}
    named = " ".join([*(message for _, message in problems.noted), *(line for finding in said.values() for line in finding.examples)])
    assert all(name in named for name in (*kinds, "pages.tif"))
    ruled = read_dataset(tmp_path, options=ImportOptions(levels="min-max"))
    for key in ruled.entries:
        pixels = ruled.pixels(key)
        assert pixels.shape == (16, 20, 3)
        assert pixels.max() == 255
    assert np.array_equal(read_dataset(tmp_path, problems=ReadProblems(strict=False)).pixels("plain16.tif")[:, :, 0],
                          (tifffile.imread(tmp_path / "plain16.tif") >> 8).astype(np.uint8))  # fmt: skip


@pytest.mark.parametrize("rule", ["", "4..1", "a..b", "1...2", "none", "0..inf"])
def test_rules_that_are_none(rule: str) -> None:
    if rule:
        with pytest.raises(DatasetError, match=r"expected low\.\.high"):
            ImportOptions(levels=rule)
    else:
        assert not LevelRule.parse(rule).kind


@pytest.mark.parametrize("suffix", [".png", ".tif", ".tiled.tif", ".deflate.tif"])
def test_windows_of_large_pictures(tmp_path: Path, suffix: str) -> None:
    """Windows hold the picture's own pixels, cover it, overlap as asked, and carry the objects that are in them."""
    import tifffile

    rng = np.random.default_rng(5)
    pixels = rng.integers(0, 255, (230, 300, 3)).astype(np.uint8)
    if suffix == ".png":
        write_tree(tmp_path, {"images/big.png": pixels})
    else:
        (tmp_path / "images").mkdir()
        more: dict[str, Any] = {"tile": (64, 64)} if "tiled" in suffix else {"compression": "zlib"} if "deflate" in suffix else {"rowsperstrip": 16}
        tifffile.imwrite(tmp_path / "images" / "big.tif", pixels, photometric="rgb", **more)
    write_tree(tmp_path, {"images/small.png": (50, 40), "labels/big.txt": "0 0.5 0.5 0.1 0.1\n0 0.02 0.02 0.02 0.02\n", "labels/small.txt": ""})
    found = read_dataset(tmp_path, options=ImportOptions(tile=(100, 100), overlap=20, splits="drawn", shares=(0.3, 0.3)))
    windows = {key: entry for key, entry in found.entries.items() if "_x" in key}
    assert len(windows) == 4 * 3
    covered = np.zeros((230, 300), bool)
    for key, entry in windows.items():
        left, top = (int(part[1:]) for part in key.removesuffix(".bmp").split("_")[-2:])
        assert tuple(entry.size) == (100, 100)
        assert np.array_equal(found.pixels(key), pixels[top : top + 100, left : left + 100])
        covered[top : top + 100, left : left + 100] = True
        inside = [(135.0, 103.5, 165.0, 126.5), (3.0, 2.3, 9.0, 6.9)]
        wanted = [
            (max(x0, left) - left, max(y0, top) - top, min(x1, left + 100) - left, min(y1, top + 100) - top)
            for x0, y0, x1, y1 in inside
            if max(0.0, min(x1, left + 100) - max(x0, left)) * max(0.0, min(y1, top + 100) - max(y0, top)) >= 0.25 * (x1 - x0) * (y1 - y0)
        ]
        assert len(entry.objects) == len(wanted)
        assert np.allclose(entry.objects.boxes, np.array(wanted).reshape(-1, 4))
    assert covered.all()
    assert len({entry.split for entry in windows.values()}) == 1
    assert "images/small.png" in found.entries
    plain = read_dataset(tmp_path)
    assert len(plain.entries) == 2
    assert read_dataset(tmp_path, options=ImportOptions(tile=(100, 100), overlap=20, splits="drawn", shares=(0.3, 0.3))).digest() == found.digest()


def test_windows_of_label_maps(tmp_path: Path) -> None:
    maps = np.arange(90 * 120).reshape(90, 120) % 3
    write_tree(tmp_path, {"images/a.png": (120, 90), "masks/a.png": (maps > 0).astype(np.uint8) * 255})
    found = read_dataset(tmp_path, options=ImportOptions(mask_class="moth", tile=(50, 50)))
    for key in found.entries:
        left, top = (int(part[1:]) for part in key.removesuffix(".bmp").split("_")[-2:])
        assert np.array_equal(found.label_map(key), (maps > 0)[top : top + 50, left : left + 50])  # type: ignore[arg-type]


def test_options_there_and_back() -> None:
    chosen = ImportOptions(
        splits="drawn", shares=(0.2, 0.1), tile=(64, 64), overlap=8, levels="0..9", mirror_pairs=(("a", "b"),), keep_classes=("m",), seed=4,
        mask_class="moth", stratify=False, mirror_classes=(("l", "r"),), groups="folder",
    )  # fmt: skip
    assert ImportOptions.from_json(chosen.to_json()) == chosen
    assert ImportOptions().to_json() == {}
    for wrong in ({"tile": (8, 8)}, {"tile": (64, 64), "overlap": 64}, {"shares": (0.6, 0.4)}):
        with pytest.raises(DatasetError, match="import options"):
            ImportOptions(**wrong)


def test_what_is_named_and_not_there_is_said(tmp_path: Path) -> None:
    """A pattern of groups that fits no image, variants of a split that is not there, a line to a keypoint that is not there."""
    folder = write_tree(tmp_path / "set", {"moth/a.png": (40, 30), "lamp/b.png": (40, 30)})
    problems = ReadProblems()
    read_dataset(folder, problems=problems, options=ImportOptions(groups="name:{group}_frame#"))
    assert ("group", "the pattern of groups fits no image: every image is by itself") in problems.remarked
    with pytest.raises(EditionError, match="split_variants: there is no split 'valid'; there are train"):
        ExportSpec(split_variants={"valid": 2}).for_dataset(read_dataset(folder))
    with pytest.raises(ArrayError, match="the line 0-2 leaves the 2 keypoints"):
        Skeleton(("head", "tail"), ((0, 2),))
