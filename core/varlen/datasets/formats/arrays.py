"""Shards for training loops: NumPy `.npz` files and POSIX tar files. Written only.

`npz`: `shards/<split>-00000.npz` with up to 256 pictures of one size each.

    images        (N, H, W, C) uint8; float32, shifted and scaled, where the pipeline ends with normalize
    boxes         (M, 4) float64, x_min y_min x_max y_max in continuous pixels; classes (M,) int64
    first         (N + 1,) int64: the objects of picture n are first[n] … first[n + 1] − 1
    oriented      (M, 4, 2) float64, corners of oriented boxes, not-a-number for objects without; where the dataset has any
    keypoints     (M, K, 3) float64; label_maps (N, H, W) uint8; image_classes (N, number of classes) float64
    names         (N,) the pictures' names

`npz-chw` holds images as (N, C, H, W). `tar`: `shards/<split>-00000.tar` with, for each picture, `key.jpg` (or png,
webp) and `key.json`: size, objects with class, box, polygon, mask and keypoints, image-level classes.
"""

from __future__ import annotations

import io
import json
import tarfile
import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path, PurePosixPath
from typing import Any, ClassVar

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.datasets.formats.base import EncodedLabels, ImageLabels, Writer, WrittenImage
from varlen.datasets.formats.voc import indexed_png
from varlen.datasets.image_files import ImageType
from varlen.errors import EditionError
from varlen.shapes.objects_json import objects_to_json

SHARD = 256


class _ShardWriter(Writer):
    """Pictures wait in `.waiting/` until they are packed."""

    spreads = False
    packs = True
    label_maps = True
    suffix: ClassVar[str]

    def picture_path(self, split: str, name: str, suffix: str, labels: ImageLabels) -> str:
        return f".waiting/{split}/{name}{suffix}"

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        (folder / "shards").mkdir(exist_ok=True)
        written = []
        counts = dict.fromkeys(splits, 0)
        for split, members in _runs(images):
            path = f"shards/{split}-{counts[split]:05d}{self.suffix}"
            counts[split] += 1
            self.pack(folder, path, members)
            written.append(path)
            for member in members:
                (folder / member.file).unlink()
        for waiting in [*sorted(folder.glob(".waiting/*")), folder / ".waiting"]:
            if waiting.is_dir():
                waiting.rmdir()
        dataset = self.dataset
        table = {"classes": list(dataset.classes), "keypoints": list(dataset.skeleton.names), "label_map": list(dataset.map_classes)}
        (folder / "classes.json").write_text(json.dumps(table, ensure_ascii=False) + "\n", "utf-8")
        return [*written, "classes.json"]

    def pack(self, folder: Path, path: str, members: list[WrittenImage]) -> None:
        """Write one shard."""
        raise NotImplementedError

    def losses(self) -> list[str]:
        return []


def _runs(images: Iterable[WrittenImage]) -> Iterator[tuple[str, list[WrittenImage]]]:
    """The pictures of one split after another, a shard's worth at a time."""
    waiting: dict[str, list[WrittenImage]] = {}
    for image in images:
        members = waiting.setdefault(image.split, [])
        members.append(image)
        if len(members) == SHARD:
            yield image.split, waiting.pop(image.split)
    yield from waiting.items()


class TarWriter(_ShardWriter):
    """Tar files of pictures as they are coded, each with its labels beside it."""

    name = "tar"
    title = "tar shards"
    layout = "POSIX tar shards: for every picture its file and a JSON file of its labels."
    suffix = ".tar"
    holds = frozenset(("boxes", "image_classes", "masks", "polygons", "keypoints", "oriented_boxes", "label_maps", "attributes", "crowd"))

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        about = {
            "width": labels.size.width,
            "height": labels.size.height,
            "objects": objects_to_json(labels.objects, self.dataset.classes),
            "classes": labels.classes,
            **({"extra": labels.extra} if labels.extra else {}),
        }
        files = (
            {}
            if labels.label_map is None
            else {f".waiting/{PurePosixPath(file).parts[1]}/{PurePosixPath(file).stem}.map.png": indexed_png(labels.label_map)}
        )
        return EncodedLabels(orjson.dumps(about, option=orjson.OPT_SORT_KEYS), [], files)

    def pack(self, folder: Path, path: str, members: list[WrittenImage]) -> None:
        with tarfile.open(folder / path, "w", format=tarfile.USTAR_FORMAT) as shard:
            for member in members:
                source = folder / member.file
                _add(shard, source.name, source.read_bytes())
                _add(shard, f"{source.stem}.json", member.image)
                levels = source.with_name(f"{source.stem}.map.png")
                if levels.exists():
                    _add(shard, levels.name, levels.read_bytes())
                    levels.unlink()


def _add(shard: tarfile.TarFile, name: str, data: bytes) -> None:
    """One member, the same on every machine and at every time."""
    info = tarfile.TarInfo(name)
    info.size = len(data)
    info.mode = 0o644
    shard.addfile(info, io.BytesIO(data))


class NpzWriter(_ShardWriter):
    """NumPy arrays, channels last."""

    coded = False
    name: ClassVar[str] = "npz"
    title: ClassVar[str] = "NumPy shards"
    layout: ClassVar[str] = "NumPy shards of pictures (N, H, W, 3) with their labels; `numpy.load` reads them."
    suffix = ".npz"
    holds = frozenset(("boxes", "image_classes", "keypoints", "oriented_boxes", "label_maps"))
    channels_first: ClassVar[bool] = False

    def suffix_for(self, kind: ImageType) -> str:
        return ".npy"

    def picture(self, pixels: NDArray[np.uint8], kind: ImageType, quality: int) -> bytes:
        stream = io.BytesIO()
        np.save(stream, pixels)
        return stream.getvalue()

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        objects = labels.objects
        about = {
            "boxes": objects.boxes.tolist(),
            "classes": objects.classes.tolist(),
            "keypoints": objects.keypoints.tolist(),
            "image": labels.classes,
        }
        if len(objects.oriented.owners):
            about["oriented"] = [None if corners is None else corners.tolist() for corners in map(objects.oriented.of_object, range(len(objects)))]
        files = {}
        if labels.label_map is not None:
            stream = io.BytesIO()
            np.save(stream, labels.label_map)
            files[str(PurePosixPath(file).with_suffix(".map"))] = stream.getvalue()
        return EncodedLabels(orjson.dumps(about), [], files)

    def pack(self, folder: Path, path: str, members: list[WrittenImage]) -> None:
        pictures = [np.load(folder / member.file) for member in members]
        sizes = {picture.shape for picture in pictures}
        if len(sizes) > 1:
            found = ", ".join(sorted(f"{shape[1]}×{shape[0]}" for shape in sizes)[:4])
            raise EditionError(f"{path}: arrays need pictures of one size, and there are {found} px; end the pipeline with a resize for every split")
        arrays: dict[str, NDArray[Any]] = {
            "images": self._images(np.stack(pictures)),
            **self._labels([orjson.loads(member.image) for member in members]),
        }
        arrays["names"] = np.array([PurePosixPath(member.file).stem for member in members])
        maps = [folder / PurePosixPath(member.file).with_suffix(".map") for member in members]
        if all(file.exists() for file in maps):
            arrays["label_maps"] = np.stack([np.load(file) for file in maps])
        for file in maps:
            file.unlink(missing_ok=True)
        _save(folder / path, arrays)

    def _images(self, images: NDArray[np.uint8]) -> NDArray[Any]:
        made: NDArray[Any] = images if self.figures is None else self.figures.apply(images)
        return np.ascontiguousarray(made.transpose(0, 3, 1, 2)) if self.channels_first else made

    def _labels(self, found: list[dict[str, Any]]) -> dict[str, NDArray[Any]]:
        counts = [len(each["classes"]) for each in found]
        points = [np.array(each["keypoints"], np.float64).reshape(len(each["classes"]), -1, 3) for each in found if each["classes"]]
        weights = [[each["image"].get(name, 0.0) for name in self.dataset.classes] for each in found]
        arrays = {
            "boxes": np.array([box for each in found for box in each["boxes"]], np.float64).reshape(-1, 4),
            "classes": np.array([number for each in found for number in each["classes"]], np.int64),
            "first": np.cumsum([0, *counts]),
            "keypoints": np.concatenate(points) if points else np.zeros((0, 0, 3)),
            "image_classes": np.array(weights, np.float64).reshape(len(found), len(self.dataset.classes)),
        }
        if self.contents.oriented:
            none = [[np.nan] * 2] * 4
            corners = [each or none for image in found for each in image.get("oriented") or [None] * len(image["classes"])]
            arrays["oriented"] = np.array(corners, np.float64).reshape(-1, 4, 2)
        return arrays

    def losses(self) -> list[str]:
        return self.contents.lost(outlines="outlines", masks="masks", crowd="marks of regions of many", extra="objects have fields of their own")


class NpzChannelsFirstWriter(NpzWriter):
    """NumPy arrays, channels first."""

    name: ClassVar[str] = "npz-chw"
    title: ClassVar[str] = "NumPy shards, channels first"
    layout: ClassVar[str] = "NumPy shards of pictures (N, 3, H, W) with their labels; `numpy.load` reads them."
    channels_first: ClassVar[bool] = True


def _save(path: Path, arrays: dict[str, NDArray[Any]]) -> None:
    """As `numpy.savez`, but without the time of writing: the same arrays give the same bytes."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:
        for name, array in arrays.items():
            stream = io.BytesIO()
            np.lib.format.write_array(stream, np.asanyarray(array), allow_pickle=False)
            archive.writestr(zipfile.ZipInfo(f"{name}.npy"), stream.getvalue())
