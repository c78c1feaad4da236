"""The night moth survey in other forms: other formats, one crop a moth, label maps, and with flaws."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from varlen.datasets.convert import convert
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.formats.base import paint_objects
from varlen.datasets.formats.voc import indexed_png
from varlen.datasets.image_files import encode

FORMS = ("coco", "voc", "yolo-keypoints", "class-folders", "mask-pairs", "flawed")
#: Moths smaller than this are no pictures of their own.
SMALLEST_CROP = 40
#: Lightness from which the lamp's glare hides the cloth.
GLARE = 236


def write_variant(survey: Path, folder: Path, form: str) -> None:
    """Write the survey, rendered to `survey` in COCO form, to `folder` in another."""
    dataset = read_dataset(survey)
    match form:
        case "class-folders":
            _write_crops(dataset, folder)
        case "mask-pairs":
            _write_label_maps(dataset, folder)
        case "flawed":
            survey.rename(folder)
            _spoil(folder)
        case _:
            convert(dataset, folder, form, accept_loss=("all",))


def _write_crops(dataset: Dataset, folder: Path) -> None:
    """One picture a moth, in the folder of its species."""
    for key, entry in dataset.entries.items():
        pixels = dataset.pixels(key)
        for place, (x0, y0, x1, y1) in enumerate(entry.objects.boxes.tolist()):
            margin = 0.08 * max(x1 - x0, y1 - y0)
            left, top = max(int(x0 - margin), 0), max(int(y0 - margin), 0)
            crop = pixels[top : int(y1 + margin) + 1, left : int(x1 + margin) + 1]
            if min(crop.shape[:2]) < SMALLEST_CROP:
                continue
            name = dataset.classes[entry.objects.classes[place]]
            path = folder / {"validation": "val"}.get(entry.split, entry.split) / name / f"{Path(key).stem}_{place + 1}.jpg"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(encode(np.ascontiguousarray(crop), "jpeg", 93))


def _write_label_maps(dataset: Dataset, folder: Path) -> None:
    """Background, moth and lamp glare, pixel by pixel."""
    for key, entry in dataset.entries.items():
        objects = entry.objects
        levels = paint_objects(objects, entry.size, [1] * len(objects))
        glare = dataset.pixels(key).min(axis=2) >= GLARE
        levels[(levels == 0) & glare] = 2
        (folder / key).parent.mkdir(parents=True, exist_ok=True)
        (folder / key).write_bytes(dataset.source(key))
        mask = folder / "masks" / Path(key).relative_to("images").with_suffix(".png")
        mask.parent.mkdir(parents=True, exist_ok=True)
        mask.write_bytes(indexed_png(levels))
    table = {"0": {"name": "background"}, "1": {"name": "moth"}, "2": {"name": "lamp glare"}}
    (folder / "classes.json").write_text(json.dumps(table, indent=1) + "\n")


def _spoil(folder: Path) -> None:
    """One of every mistake that datasets come with."""
    files = {split: folder / "annotations" / f"{split}.json" for split in ("train", "validation")}
    train, validation = (json.loads(path.read_text()) for path in files.values())
    pictures = folder / "images" / "train"

    def of(image: dict[str, Any]) -> list[dict[str, Any]]:
        return [annotation for annotation in train["annotations"] if annotation["image_id"] == image["id"]]

    images = train["images"]
    outside, empty, missing, cut, twice, unknown, turned, gray, deep, renamed = images[:10]
    for annotation, change in ((of(outside)[0], {"bbox": [outside["width"] - 30, 40, 120, 80]}), (of(empty)[0], {"bbox": [200, 200, 0, 40]})):
        annotation.pop("segmentation", None)
        annotation.update(change)
    (pictures / missing["file_name"]).unlink()
    data = (pictures / cut["file_name"]).read_bytes()
    (pictures / cut["file_name"]).write_bytes(data[: len(data) // 2])
    copy = {**twice, "id": 1000, "file_name": "again.jpg"}
    validation["images"].append(copy)
    (folder / "images" / "validation" / "again.jpg").write_bytes((pictures / twice["file_name"]).read_bytes())
    of(unknown)[0]["category_id"] = 99
    _change(pictures / turned["file_name"], lambda image: image.transpose(Image.Transpose.ROTATE_90), exif=6)
    for item, stored in ((gray, lambda image: image.convert("L")), (deep, _sixteen_bits)):
        _change(pictures / item["file_name"], stored, suffix=".png")
        item["file_name"] = Path(item["file_name"]).with_suffix(".png").name
    (pictures / renamed["file_name"]).rename(pictures / "renamed.png")
    renamed["file_name"] = "renamed.png"
    files["train"].write_text(json.dumps(train))
    files["validation"].write_text(json.dumps(validation))


def _sixteen_bits(image: Image.Image) -> Image.Image:
    return Image.fromarray(np.asarray(image.convert("L")).astype(np.uint16) * 257)


def _change(path: Path, change: Any, suffix: str = ".jpg", exif: int | None = None) -> None:
    """Store a picture in another way."""
    image = change(Image.open(io.BytesIO(path.read_bytes())))
    path.unlink()
    tags = Image.Exif()
    if exif is not None:
        tags[0x0112] = exif
    image.save(path.with_suffix(suffix), exif=tags)
