"""Every format: there and back without creeping, from any to any, in its own convention, and bad files refused by name."""

from __future__ import annotations

import json
import tarfile
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image
from pycocotools.coco import COCO
from varlen.datasets.convert import convert
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.formats import WRITERS, read_dataset
from varlen.datasets.image_files import decode, encode
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Folder
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.verify import verify
from varlen.errors import DatasetError, EditionError
from varlen.model.geometry import Size
from varlen.model.objects import Part, make_objects
from varlen.render.renderer import Renderer
from varlen.shapes.polygons import mask_from_polygon

from tests.conftest import PROJECT, dotted, light_near, make_pipeline
from tests.core.scenes import said

SKELETON = Skeleton(("head", "left tip", "right tip"), ((0, 1), (0, 2)))
OBJECTS = ("coco", "voc", "yolo", "yolo-polygons", "yolo-keypoints")
#: How far a box may be off after the first writing, in px: the format's own precision.
PRECISION = {"coco": 1.01e-4, "voc": 0.5001, "yolo": 1e-5, "yolo-polygons": 1e-5, "yolo-keypoints": 1e-5}


class Made(Dataset):
    """Made-up labels of every kind on plain pictures."""

    def __init__(
        self, folder: Path, boxes: list[list[list[float]]], shapes: bool = True, splits: tuple[str, ...] = ("train", "validation", "test")
    ) -> None:
        entries = []
        for number, found in enumerate(boxes):
            key = f"images/{splits[number % len(splits)]}/moth {number}.png"
            size = Size(61 + 7 * number, 47 + 5 * number)
            (folder / key).parent.mkdir(parents=True, exist_ok=True)
            (folder / key).write_bytes(encode(np.full((size.height, size.width, 3), 40 + number, np.uint8), "png"))
            entries.append(Entry(key, splits[number % len(splits)], size, self._objects(key, size, found)))
        super().__init__("made", ["ash veil", "copper & hook"], entries, Folder(folder), SKELETON)

    @staticmethod
    def _objects(key: str, size: Size, boxes: list[list[float]]) -> Any:
        scaled = [[x0 * size.width, y0 * size.height, x1 * size.width, y1 * size.height] for x0, y0, x1, y1 in boxes]
        rings = [np.array([[x0, y0], [x1, y0], [x1, (y0 + y1) / 2], [x0, y1]]) for x0, y0, x1, y1 in scaled]
        polygons = [(Part(ring),) if n % 3 != 2 else None for n, ring in enumerate(rings)]
        masks = [mask_from_polygon((Part(ring),)) if n % 3 == 2 else None for n, ring in enumerate(rings)]
        tight = [list(mask.box) if mask else box for mask, box in zip(masks, scaled, strict=True)]
        points = [[[(x0 + x1) / 2, y0 + 1, 2], [x0, y1, 1], [0, 0, 0]] for x0, y0, x1, y1 in scaled]
        count = len(boxes)
        return make_objects([str(n + 1) for n in range(count)], key, [n % 2 for n in range(count)], tight, polygons, masks, points,
                            [False] * count, [{"difficult": n % 2} for n in range(count)])  # fmt: skip


EDGE = st.tuples(st.floats(0, 0.6), st.floats(0.12, 0.4))
BOX = st.builds(lambda x, y: [x[0], y[0], x[0] + x[1], y[0] + y[1]], EDGE, EDGE)
BOXES = st.lists(st.lists(BOX, max_size=4), min_size=3, max_size=5)


def objects_by_picture(dataset: Dataset) -> dict[str, Any]:
    """Entries by their picture's own number, which all formats keep."""
    return {key.rsplit("moth ", 1)[1].split(".")[0]: entry for key, entry in dataset.entries.items()}


@settings(max_examples=12, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(BOXES, st.sampled_from(OBJECTS))
def test_ten_times_there_and_back_nothing_creeps(tmp_path_factory: pytest.TempPathFactory, boxes: list[Any], form: str) -> None:
    folder = tmp_path_factory.mktemp("made")
    first = Made(folder / "0", boxes)
    dataset: Dataset = first
    settled = None
    for turn in range(1, 11):
        convert(dataset, folder / str(turn), form, accept_loss=("all",))
        dataset = read_dataset(folder / str(turn))
        for number, entry in objects_by_picture(dataset).items():
            original = objects_by_picture(first)[number]
            assert entry.split == original.split
            names = [dataset.classes[n] for n in entry.objects.classes]
            assert names == [first.classes[n] for n in original.objects.classes]
            slack = 1.001 if form == "yolo-polygons" else PRECISION[form]
            assert np.allclose(entry.objects.boxes, original.objects.boxes, rtol=0, atol=slack)
        now = {number: entry.objects.boxes.tolist() for number, entry in objects_by_picture(dataset).items()}
        if turn > 1:
            assert all(np.allclose(now[number], settled[number], rtol=0, atol=1e-7) for number in now) if settled else True
        settled = now
    # Nor do names grow.
    assert {key.rsplit("/", 1)[1] for key in dataset.entries} == {key.rsplit("/", 1)[1] for key in first.entries}


@pytest.mark.parametrize("first", OBJECTS)
@pytest.mark.parametrize("second", OBJECTS)
def test_from_any_format_to_any_other(tmp_path: Path, first: str, second: str) -> None:
    """Boxes, classes and splits are in all of them; what both hold comes through, what is lost is said."""
    made = Made(tmp_path / "made", [[[0.05, 0.05, 0.4, 0.4], [0.5, 0.5, 0.9, 0.9], [0.05, 0.55, 0.4, 0.95]], [[0.2, 0.2, 0.7, 0.7]], []])
    convert(made, tmp_path / "one", first, accept_loss=("all",))
    one = read_dataset(tmp_path / "one")
    _, losses = convert(one, tmp_path / "two", second, accept_loss=("all",))
    two = read_dataset(tmp_path / "two")
    assert sorted(two.classes) == sorted(made.classes)
    slack = 1.01 if "voc" in (first, second) or "yolo-polygons" in (first, second) else 1e-4
    before, after = objects_by_picture(one), objects_by_picture(two)
    for number, entry in after.items():
        assert np.allclose(entry.objects.boxes, before[number].objects.boxes, rtol=0, atol=slack)
    if {first, second} <= {"coco", "yolo-keypoints"}:
        assert np.allclose(after["0"].objects.keypoints, before["0"].objects.keypoints, atol=1e-4)
        assert two.swap.tolist() == made.swap.tolist() == [0, 2, 1]
    kept = {"coco": "keypoints", "yolo-keypoints": "keypoints"}.get(second)
    assert any("keypoints" in loss for loss in losses) == (kept is None and first in ("coco", "yolo-keypoints"))
    assert (two.source_digest(next(iter(two.entries)))) in {made.source_digest(key) for key in made.entries}  # pictures are copied


def test_shapes_through_voc_are_pixels(tmp_path: Path) -> None:
    made = Made(tmp_path / "made", [[[0.1, 0.1, 0.4, 0.4], [0.5, 0.5, 0.9, 0.9]]] * 3)
    convert(made, tmp_path / "voc", "voc", accept_loss=("all",))
    read = objects_by_picture(read_dataset(tmp_path / "voc"))["0"].objects
    expected = mask_from_polygon(objects_by_picture(made)["0"].objects.polygons[0])
    assert expected is not None
    assert read.masks[0] is not None
    assert np.array_equal(read.masks[0].pixels, expected.pixels)
    assert read.attributes[1]["difficult"] == 1
    png = Image.open(next((tmp_path / "voc" / "SegmentationObject").glob("*.png")))
    assert png.mode == "P"


@pytest.mark.parametrize("form", ["voc", "yolo", "yolo-keypoints", "yolo-polygons"])
def test_the_dot_test_through_written_files(tmp_path: Path, form: str) -> None:
    """Read by hand, by the format's own convention: light and label lie in the same place."""
    dataset = read_dataset(dotted(tmp_path / "dots", 192, 144, [(100, 80), (31, 47), (150, 20), (75, 101)]))
    steps = [
        {"step": "flip"},
        {"step": "rotate", "degrees": [-20, 20], "frame": "grow"},
        {"step": "resize", "width_px": 230, "height_px": 190, "fit": "stretch"},
    ]
    out = tmp_path / "out"
    export(
        dataset,
        make_pipeline(*steps, seed=5, labels={"keep_side_px": 0}),
        out,
        ExportSpec(variants=2, format=form, image="png"),
        accept_loss=("all",),
    )
    seen = 0
    for file in sorted(out.rglob("*.png")):
        if "Segmentation" in str(file):
            continue
        pixels = decode(file.read_bytes(), file.name)
        height, width = pixels.shape[:2]
        if form == "voc":
            text = (out / "Annotations" / f"{file.stem}.xml").read_text()
            x0, y0, x1, y1 = (int(text.split(f"<{side}>")[1].split("<")[0]) for side in ("xmin", "ymin", "xmax", "ymax"))
            x, y = (x0 - 1 + x1) / 2, (y0 - 1 + y1) / 2
        else:
            words = [
                float(word) for word in (out / str(file.relative_to(out)).replace("images", "labels", 1)).with_suffix(".txt").read_text().split()
            ]
            if form == "yolo-polygons":
                ring = np.array(words[1:]).reshape(-1, 2)
                x, y = (ring.min(0) + ring.max(0)) / 2 * [width, height]
            else:
                place = 5 if form == "yolo-keypoints" else 1
                x, y = words[place] * width, words[place + 1] * height
        found = light_near(pixels, x, y)
        assert found == (pytest.approx(x, abs=0.75), pytest.approx(y, abs=0.75))
        seen += 1
    assert seen == 12
    assert verify(out) == []


@pytest.mark.parametrize("form", sorted(WRITERS))
def test_editions_in_every_format_verify_and_notice_a_changed_file(tmp_path: Path, form: str) -> None:
    folder = tmp_path / "set"
    for number in range(4):
        for name in ("ash", "copper"):
            path = folder / "train" / name / f"{number}.png"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(encode(np.random.default_rng(number).integers(0, 256, (20, 30, 3)).astype(np.uint8), "png"))
    dataset = read_dataset(folder)
    digests = set()
    for workers in (1, 2):
        out = tmp_path / f"out{workers}"
        record = export(
            dataset,
            make_pipeline({"step": "flip"}, {"step": "mosaic"}),
            out,
            ExportSpec(variants=1, format=form),
            workers=workers,
            accept_loss=("all",),
        )
        digests.add(record["output_digest"])
        assert verify(out) == []
        assert sorted(path.name for path in out.glob(".*")) == []
    assert len(digests) == 1
    victim = next(path for path in sorted(out.rglob("*")) if path.is_file() and path.name not in ("edition.json", "rows.jsonl"))
    data = bytearray(victim.read_bytes())
    data[len(data) // 2] ^= 1
    victim.write_bytes(bytes(data))
    assert said(verify(out)) == [f"{victim.relative_to(out).as_posix()}: changed since it was written"]


def test_arrays_are_read_by_numpy_alone(tmp_path: Path, survey: Dataset, survey_folder: Path) -> None:
    fit = {"step": "resize", "width_px": 96, "height_px": 80, "scope": "every"}
    normal = {"step": "normalize", "mean": [100, 110, 120], "std": [50, 60, 70]}
    export(survey, make_pipeline(fit, normal), tmp_path / "out", ExportSpec(variants=1, format="npz-chw"), accept_loss=("all",))
    renderer = Renderer(survey, make_pipeline(fit, normal))
    with np.load(tmp_path / "out" / "shards" / "train-00000.npz") as shard:
        assert shard["images"].shape[1:] == (3, 80, 96)
        assert shard["images"].dtype == np.float32
        assert len(shard["first"]) == len(shard["names"]) + 1
        place = shard["names"].tolist().index("night_0002_v1")
        sample, _ = renderer.render("images/train/night_0002.jpg", 1)
        expected = (sample.pixels.astype(float) - [100, 110, 120]) / [50, 60, 70]
        assert np.allclose(shard["images"][place].transpose(1, 2, 0), expected, atol=1e-5)
        first, end = shard["first"][place : place + 2]
        assert np.array_equal(shard["boxes"][first:end], sample.objects.boxes)
        assert np.array_equal(shard["keypoints"][first:end], sample.objects.keypoints)
    with pytest.raises(EditionError, match="arrays need pictures of one size"):
        export(survey, make_pipeline({"step": "crop"}), tmp_path / "uneven", ExportSpec(variants=1, format="npz"), accept_loss=("all",))
    assert not (tmp_path / "uneven").exists()


def test_tar_shards_hold_pairs(tmp_path: Path, survey: Dataset) -> None:
    losses = convert(survey, tmp_path / "out", "tar")
    assert losses == ([], [])
    with tarfile.open(tmp_path / "out" / "shards" / "train-00000.tar") as shard:
        names = shard.getnames()
        assert names == [name for number in range(1, 7) for name in (f"night_{number:04d}.jpg", f"night_{number:04d}.json")]
        about = json.loads(shard.extractfile("night_0003.json").read())  # type: ignore[union-attr]
        assert shard.extractfile("night_0003.jpg").read() == survey.source("images/train/night_0003.jpg")  # type: ignore[union-attr]
    assert len(about["objects"]) == len(survey.objects_of("images/train/night_0003.jpg"))


def test_label_maps_through_mask_pairs(tmp_path: Path) -> None:
    """Levels come back exactly, and move with the picture; a zip is as good as a folder."""
    for split in ("train", "val"):
        for kind, data in (("images", np.zeros((30, 40, 3), np.uint8)), ("masks", np.arange(1200, dtype=np.uint8).reshape(30, 40, 1) % 3)):
            path = tmp_path / "set" / kind / split / "a.png"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(encode(data, "png"))
    (tmp_path / "set" / "classes.json").write_text(json.dumps({"0": {"name": "cloth"}, "1": {"name": "moth"}, "2": {"name": "glare"}}))
    with zipfile.ZipFile(tmp_path / "set.zip", "w") as archive:
        for path in sorted((tmp_path / "set").rglob("*.*")):
            archive.write(path, path.relative_to(tmp_path))
    dataset = read_dataset(tmp_path / "set.zip")
    assert dataset.map_classes == ("cloth", "moth", "glare")
    assert dataset.counts() == {"train": {"images": 1, "objects": 0}, "validation": {"images": 1, "objects": 0}}
    export(dataset, make_pipeline({"step": "flip"}), tmp_path / "out", ExportSpec(variants=1, format="mask-pairs", image="png"), accept_loss=("all",))
    again = read_dataset(tmp_path / "out")
    before = dataset.label_map("images/train/a.png")
    assert before is not None
    assert np.array_equal(again.label_map("images/train/a_v0.png"), before)
    assert np.array_equal(again.label_map("images/train/a_v1.png"), before[:, ::-1])
    assert again.map_classes == dataset.map_classes


def test_splits_of_class_folders_are_drawn_class_by_class(tmp_path: Path) -> None:
    for name, count in (("ash", 40), ("copper", 10), ("rare", 2)):
        for number in range(count):
            path = tmp_path / name / f"{number}.png"
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(encode(np.zeros((4, 4, 3), np.uint8), "png"))
    dataset = read_dataset(tmp_path)
    assert dataset.format == "class-folders"
    counts = {(split, name): sum(entry.split == split and entry.classes == (name,) for entry in dataset.entries.values())
              for split in ("train", "validation", "test") for name in dataset.classes}  # fmt: skip
    assert [counts[split, "ash"] for split in ("train", "validation", "test")] == [32, 4, 4]
    assert [counts[split, "copper"] for split in ("train", "validation", "test")] == [8, 1, 1]
    assert counts["train", "rare"] == 2


def test_exported_coco_is_read_by_its_own_reader(tmp_path: Path) -> None:
    made = Made(tmp_path / "made", [[[0.1, 0.1, 0.5, 0.6], [0.3, 0.4, 0.9, 0.9]], [[0.2, 0.2, 0.7, 0.7]], []], splits=("train",))
    convert(made, tmp_path / "coco", "coco", accept_loss=("all",))
    coco = COCO(str(tmp_path / "coco" / "annotations" / "train.json"))
    assert len(coco.getImgIds()) == 3
    assert all(coco.annToMask(annotation).sum() > 0 for annotation in coco.loadAnns(coco.getAnnIds()))


XML = "<annotation><filename>a.png</filename><size><width>8</width><height>8</height></size>{}</annotation>"
BOMB = '<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]><annotation><filename>&b;</filename></annotation>'


@pytest.mark.parametrize(
    ("path", "content", "message"),
    [
        ("Annotations/a.xml", "<annotation", "Annotations/a.xml: not XML"),
        ("Annotations/a.xml", BOMB, "Annotations/a.xml: holds entities"),
        ("Annotations/a.xml", XML.format("<object><name>x</name></object>"), "object 1 (x): bndbox must hold"),
        ("Annotations/a.xml", XML.format("<object><bndbox/></object>"), "object 1 has no name"),
        ("Annotations/b.xml", XML.replace("a.png", "c.png"), "Annotations/b.xml: there is no picture for it (c.png)"),
        ("labels/a.txt", "0 0.5 0.5 0.2", "labels/a.txt, line 1: 4, or an even number"),
        ("labels/a.txt", "0 0.5 x 0.2 0.2", "labels/a.txt, line 1: expected numbers"),
        ("labels/a.txt", "0 0.5 0.5 0.2 -0.2", "labels/a.txt, line 1: negative size"),
        ("data.yaml", "names: [a\n", "data.yaml: not YAML"),
        ("data.yaml", "names: {0: a, 2: b}", "data.yaml: names must be numbered"),
        ("masks/a.png", encode(np.zeros((3, 3, 1), np.uint8), "png"), "the label map is 3×3 px"),
        ("annotations/train.json", '{"images": [], "annotations": 5, "categories": []}', "annotations must be a list"),
    ],
)
def test_bad_files_are_refused_by_name_and_place(tmp_path: Path, path: str, content: str | bytes, message: str) -> None:
    for file, data in (("images/a.png", encode(np.zeros((8, 8, 3), np.uint8), "png")), (path, content)):
        (tmp_path / file).parent.mkdir(exist_ok=True)
        (tmp_path / file).write_bytes(data if isinstance(data, bytes) else data.encode())
    with pytest.raises(DatasetError) as caught:
        read_dataset(tmp_path).label_map("images/a.png")
    assert message in str(caught.value)
    assert "\n" not in str(caught.value)


def test_what_is_no_dataset_is_refused(tmp_path: Path) -> None:
    (tmp_path / "notes.txt").write_text("nothing")
    with pytest.raises(DatasetError, match="not recognised as a dataset: there is no picture in it"):
        read_dataset(tmp_path)
    with pytest.raises(DatasetError, match="no dataset format 'cocoa' to read"):
        read_dataset(tmp_path, "cocoa")


def test_the_loader_in_the_docs_reads_shards(tmp_path: Path, survey: Dataset) -> None:
    """Written out in docs/formats.md, with nothing of ours."""
    text = (PROJECT / "docs" / "formats.md").read_text()
    documented: dict[str, Any] = {}
    exec(next(part.split("```")[0] for part in text.split("```python\n")[1:] if "class Shards" in part), documented)
    fit = {"step": "resize", "width_px": 64, "height_px": 48, "scope": "every"}
    export(survey, make_pipeline(fit), tmp_path / "out", ExportSpec(variants=1, format="npz"), accept_loss=("all",))
    source = documented["Shards"](tmp_path / "out")
    renderer = Renderer(survey, make_pipeline(fit))
    assert len(source) == 12
    picture, target = source[3]  # the second image's first variant
    sample, _ = renderer.render("images/train/night_0002.jpg", 1)
    assert np.array_equal(picture, sample.pixels)
    assert np.array_equal(target["boxes"], sample.objects.boxes)
