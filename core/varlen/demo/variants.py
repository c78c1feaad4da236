"""The night moth survey in other forms: other formats, one crop a moth, label maps, and with flaws."""

from __future__ import annotations

import io
import json
import shutil
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image
from scipy import ndimage

from varlen.datasets.convert import convert
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.formats.base import paint_objects
from varlen.datasets.formats.voc import indexed_png
from varlen.datasets.image_files import encode
from varlen.demo.scene import photograph
from varlen.shapes.polygons import polygon_from_mask

FORMS = ("coco", "voc", "yolo-keypoints", "class-folders", "mask-pairs", "turned-boxes", "flawed")
#: Moths smaller than this are no pictures of their own.
SMALLEST_CROP = 40
#: Of the night in the field.
FIELD_SEED = 1911
FIELD_IMAGES = 40
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
        case "turned-boxes":
            _write_turned_boxes(dataset, folder)
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


def _copy_picture(dataset: Dataset, key: str, folder: Path) -> None:
    (folder / key).parent.mkdir(parents=True, exist_ok=True)
    (folder / key).write_bytes(dataset.source(key))


def _write_turned_boxes(dataset: Dataset, folder: Path) -> None:
    """Each moth's tightest turned box in a line of text, its front where the head is."""
    import shapely

    for key, entry in dataset.entries.items():
        _copy_picture(dataset, key, folder)
        polygons, lines = entry.objects.polygons, []
        for place in entry.objects.shaped():
            polygon, mask = polygons[place], entry.objects.masks[place]
            points = np.concatenate([part.outline for part in polygon or (polygon_from_mask(mask) if mask is not None else ())])
            corners = np.array(shapely.minimum_rotated_rectangle(shapely.MultiPoint(points)).exterior.coords)[:4]
            seen = entry.objects.keypoints[place]
            head = seen[0, :2] if len(seen) and seen[0, 2] > 0 else corners[:2].mean(axis=0)
            middles = (corners + np.roll(corners, -1, axis=0)) / 2
            front = int(np.hypot(*(middles - head).T).argmin())
            name = dataset.classes[entry.objects.classes[place]].replace(" ", "-")
            lines.append(" ".join(f"{value:.2f}" for value in np.roll(corners, -front, axis=0).ravel()) + f" {name} 0")
        labels = folder / "labels" / Path(key).relative_to("images").with_suffix(".txt")
        labels.parent.mkdir(parents=True, exist_ok=True)
        labels.write_text("\n".join(lines) + "\n")


def write_field_night(folder: Path, images: int = FIELD_IMAGES) -> None:
    """Photographs of another night without labels, as a small camera in the field brings them home: a cooler, weaker lamp, a softer lens
    and more grain."""
    part = folder.with_name(f".{folder.name}.varlen-part")
    shutil.rmtree(part, ignore_errors=True)
    (part / "images").mkdir(parents=True)
    for number in range(images):
        pixels, _ = photograph(FIELD_SEED, number)
        rng = np.random.default_rng([FIELD_SEED, number, 1])
        light = (pixels / 255.0) ** rng.uniform(1.2, 1.5) * np.array([0.62, 0.72, 0.95])
        soft = ndimage.gaussian_filter(light * 255, (*[rng.uniform(0.8, 1.3)] * 2, 0))
        grainy = soft + rng.normal(0.0, rng.uniform(3.0, 6.0), soft.shape)
        data = encode(np.clip(grainy + 0.5, 0, 255).astype(np.uint8), "jpeg", 97)
        (part / "images" / f"field_{number + 1:04d}.jpg").write_bytes(data)
    part.rename(folder)


def _write_label_maps(dataset: Dataset, folder: Path) -> None:
    """Background, moth and lamp glare, pixel by pixel."""
    for key, entry in dataset.entries.items():
        objects = entry.objects
        levels = paint_objects(objects, entry.size, [1] * len(objects))
        glare = dataset.pixels(key).min(axis=2) >= GLARE
        levels[(levels == 0) & glare] = 2
        _copy_picture(dataset, key, folder)
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
