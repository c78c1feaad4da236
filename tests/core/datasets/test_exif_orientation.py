"""All eight EXIF values: pictures are seen upright, and labels drawn on stored pixels come upright with them."""

from __future__ import annotations

import io
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image
from varlen.datasets.convert import convert
from varlen.datasets.entry import Entry
from varlen.datasets.image_files import decode, is_upright, read_header, upright_entry, upright_raster, upright_size
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import Importer
from varlen.datasets.ingest import IngestedImage
from varlen.datasets.level_rules import LevelRule
from varlen.model.geometry import Size

from tests.core.golden.dataset import EXIF_SIZE, STORED, golden, pattern, png
from tests.core.scenes import block, objects_of, polygon, ring

UPRIGHT = pattern(*EXIF_SIZE, 9)
WHOLE = [0.0, 0.0, 40.0, 26.0]


@pytest.mark.parametrize("orientation", range(1, 9))
def test_pictures_are_decoded_upright(orientation: int) -> None:
    data = png(STORED[orientation](UPRIGHT), orientation)
    assert np.array_equal(decode(data, "a.png"), UPRIGHT)
    assert upright_size(data, "a.png") == EXIF_SIZE
    assert is_upright(data, "a.png") == (orientation == 1)
    header = read_header(data, "a.png")
    assert header is not None
    assert (header.orientation, header.upright) == (orientation, EXIF_SIZE)
    assert Size(header.width, header.height) == (EXIF_SIZE if orientation < 5 else Size(EXIF_SIZE.height, EXIF_SIZE.width))


@pytest.mark.parametrize("kind", ["TIFF", "JPEG", "WEBP"])
@pytest.mark.parametrize("orientation", range(1, 9))
def test_every_kind_of_file_is_turned_once(orientation: int, kind: str) -> None:
    """A smooth ramp, so that a code with losses changes little; a TIFF is turned by its decoder, the others by us."""
    rows, columns = np.mgrid[0:24, 0:40]
    upright = np.stack([columns * 6, rows * 10, (rows + columns) * 3], 2).astype(np.uint8)
    image = Image.fromarray(np.ascontiguousarray(STORED[orientation](upright)))
    exif = image.getexif()
    exif[0x0112] = orientation
    stream = io.BytesIO()
    image.save(stream, kind, exif=exif, **({} if kind == "TIFF" else {"quality": 98}))
    data = stream.getvalue()
    assert upright_size(data, "a") == Size(40, 24)
    header = read_header(data, "a")
    assert header is not None
    assert (header.orientation, header.upright, header.width) == (orientation, Size(40, 24), 40 if orientation < 5 else 24)
    assert np.abs(decode(data, "a").astype(int) - upright).max() <= (0 if kind == "TIFF" else 16)


@pytest.mark.parametrize("orientation", range(1, 9))
def test_levels_beyond_8_bits_are_turned_once(orientation: int) -> None:
    upright = np.arange(12 * 20, dtype=np.uint16).reshape(12, 20) * 200
    stream = io.BytesIO()
    tifffile.imwrite(stream, np.ascontiguousarray(STORED[orientation](upright)), extratags=[(0x0112, 3, 1, orientation, True)])
    found = LevelRule.parse("0..65535").decode(stream.getvalue(), "a.tif")
    assert found.shape == (12, 20, 3)
    assert np.abs(found[:, :, 0] - upright / 257).max() <= 0.51
    assert upright_size(stream.getvalue(), "a.tif") == Size(20, 12)


#: Where the upright corner box 1 2 5 9 of a 40×26 px picture lies on the stored pixels, and a point at 4 7.
ON_STORED = {
    1: ([1, 2, 5, 9], [4, 7]),
    2: ([35, 2, 39, 9], [36, 7]),
    3: ([35, 17, 39, 24], [36, 19]),
    4: ([1, 17, 5, 24], [4, 19]),
    5: ([2, 1, 9, 5], [7, 4]),
    6: ([2, 35, 9, 39], [7, 36]),
    7: ([17, 35, 24, 39], [19, 36]),
    8: ([17, 1, 24, 5], [19, 4]),
}


@pytest.mark.parametrize("orientation", range(1, 9))
def test_labels_on_stored_pixels_come_upright(orientation: int) -> None:
    box, point = ON_STORED[orientation]
    stored = EXIF_SIZE if orientation < 5 else Size(EXIF_SIZE.height, EXIF_SIZE.width)
    x0, y0, x1, y1 = box
    rows = [
        {"box": box, "points": [[*point, 2.0], [0.0, 0.0, 0.0]]},
        {"polygon": polygon(ring((x0, y0), (x1, y0), (*point,)))},
        {"mask": block(x0, y0, x1 - x0, y1 - y0)},
    ]
    entry = upright_entry(Entry("a", "train", stored, objects_of("a", rows)), orientation)
    objects = entry.objects
    assert entry.size == EXIF_SIZE
    assert objects.boxes[0].tolist() == [1, 2, 5, 9]
    assert objects.keypoints[0].tolist() == [[4, 7, 2], [0, 0, 0]]
    assert sorted(map(tuple, objects.outlines.points.tolist()))[-1][0] <= 5
    assert [4.0, 7.0] in objects.outlines.points.tolist()
    mask = objects.masks[2]
    assert mask is not None
    assert (mask.left, mask.top, *mask.pixels.shape) == (1, 2, 7, 4)
    assert objects.boxes[2].tolist() == [1, 2, 5, 9]


@pytest.mark.parametrize("orientation", range(1, 9))
def test_rasters_come_upright(orientation: int) -> None:
    levels = UPRIGHT[:, :, 0]
    turned = upright_raster(np.ascontiguousarray(STORED[orientation](UPRIGHT)[:, :, 0]), orientation)
    assert np.array_equal(turned, levels)
    assert turned.flags.c_contiguous


def test_an_import_reads_labels_on_stored_pixels_as_it_is_told(tmp_path: Path) -> None:
    """The same picture under eight orientations, labelled on its stored pixels: eight equal images."""
    source = golden("stored")
    chosen = [key for key in source.entries if "exif" in key]
    entries = {}
    for key in chosen:
        orientation = int(key[-5])
        stored = EXIF_SIZE if orientation < 5 else Size(EXIF_SIZE.height, EXIF_SIZE.width)
        box, point = ON_STORED[orientation]
        entries[key] = replace(source.entries[key], size=stored, objects=objects_of(key, [{"box": box, "points": [[*point, 2.0]]}]), classes=())
    folder = tmp_path / "in"
    _write_stored(folder, entries, source.files.files)  # type: ignore[attr-defined]
    importer = Importer(folder, ImportOptions(exif="stored"))
    found: list[IngestedImage] = list(importer.images(lambda digest, data: None, lambda image: image))
    assert len(found) == 8
    for image in found:
        assert image.entry.size == EXIF_SIZE
        assert image.entry.objects.boxes.tolist() == [[1, 2, 5, 9]]
        assert image.entry.objects.keypoints.tolist() == [[[4, 7, 2]]]
    # Taken as upright, those that lie on their side don't fit their labels, and that is a finding.
    upright = Importer(folder, ImportOptions())
    assert len(list(upright.images(lambda digest, data: None, lambda image: image))) == 4
    assert {finding.kind: finding.count for finding in upright.findings()}["size-disagrees"] == 4


def _write_stored(folder: Path, entries: dict[str, Entry], files: dict[str, bytes]) -> None:
    import json

    (folder / "annotations").mkdir(parents=True)
    images, annotations = [], []
    for number, (key, entry) in enumerate(entries.items(), 1):
        (folder / key).parent.mkdir(parents=True, exist_ok=True)
        (folder / key).write_bytes(files[key])
        images.append({"id": number, "file_name": key, "width": entry.size.width, "height": entry.size.height})
        x0, y0, x1, y1 = entry.objects.boxes[0].tolist()
        px, py, _ = entry.objects.keypoints[0, 0].tolist()
        annotations.append({"id": number, "image_id": number, "category_id": 1, "bbox": [x0, y0, x1 - x0, y1 - y0], "area": 28, "iscrowd": 0,
                            "keypoints": [px - 0.5, py - 0.5, 2]})  # fmt: skip
    categories = [{"id": 1, "name": "moth", "keypoints": ["dot"], "skeleton": []}]
    (folder / "annotations" / "train.json").write_text(json.dumps({"images": images, "annotations": annotations, "categories": categories}))


def test_conversion_sets_pictures_upright_and_leaves_upright_ones_as_they_are(tmp_path: Path) -> None:
    dataset = golden()
    convert(dataset, tmp_path / "out", "coco", accept_loss="all")
    for path in sorted((tmp_path / "out" / "images" / "train").glob("exif_*.png")):
        assert np.array_equal(decode(path.read_bytes(), path.name), UPRIGHT)
        assert is_upright(path.read_bytes(), path.name)
    plain = next((tmp_path / "out" / "images" / "train").glob("*wide*"))
    assert plain.read_bytes() == dataset.source("images/wide.png")
