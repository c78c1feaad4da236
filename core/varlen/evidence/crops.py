"""What the probe's network is shown of a picture: small crops, and the right answer for each.

Four tasks, by what a dataset has. Whatever the task, an answer is judged in columns (classes, or keypoints): how many of a
picture's were right, of how many. So every score is a mean over columns of right / all, and pictures can be drawn again for a bootstrap.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import evenly_spaced
from varlen.errors import EvidenceError
from varlen.kernels.resample import shrunk
from varlen.render.batches import Sample

TaskName = Literal["classification", "objects", "pixels", "keypoints"]
Pixels = NDArray[np.uint8]

#: Side of what the network sees, px; of whole pictures for pixels.
SIDE = {"classification": 48, "objects": 48, "pixels": 64, "keypoints": 48}
#: The network's answers for pixels and keypoints are on a grid this much coarser.
COARSER = 4
METRIC = {"classification": "balanced_accuracy", "objects": "balanced_accuracy", "pixels": "mean_iou", "keypoints": "keypoints_within_0.15"}
#: Around an object, in its longer side.
CONTEXT = 1.2
#: Objects smaller than this, px, are no pictures of their own.
SMALLEST = 8.0
#: Background crops for each object, and how much of one an object may cover.
BACKGROUNDS, MOST_COVERED = 0.34, 0.1
#: Images that tell what a dataset has.
LOOKED_AT = 300
BACKGROUND = "background"
#: A keypoint is right within this share of the square's side.
NEAR = 0.15


@dataclass(frozen=True)
class Task:
    """What is learned. columns: names of the columns that scores are counted in; side: of a crop, px; answers: classes or keypoints."""

    name: TaskName
    columns: tuple[str, ...]
    side: int

    @property
    def metric(self) -> str:
        """The score's name."""
        return METRIC[self.name]

    @property
    def cells(self) -> int:
        """Side of the grid that pixels and keypoints are answered on."""
        return self.side // COARSER


@dataclass(frozen=True)
class Crops:
    """Crops with their targets. pixels (N, S, S, 3) uint8; targets (N,), (N, G, G) or (N, K) int32, −1 where there is none; owner (N,): the
    picture's place."""

    pixels: Pixels
    targets: NDArray[np.int32]
    owner: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.pixels)


def task_of(dataset: Dataset, wanted: str = "") -> Task:
    """The task a dataset is good for: image classes, then label maps, then objects; keypoints where objects have but one class.

    wanted: another that it has, by name. Raises `EvidenceError` where there is nothing to learn.
    """
    entries = [dataset.entries[key] for key in evenly_spaced(list(dataset.entries), LOOKED_AT)]
    classes = sorted({name for entry in entries for name in entry.classes})
    objects = any(len(entry.objects) for entry in entries)
    points = bool(dataset.skeleton.names) and any(bool(entry.objects.keypoints[:, :, 2].any()) for entry in entries if entry.objects.keypoints.size)
    maps = any(entry.label_map for entry in entries)
    possible: dict[str, tuple[str, ...]] = {}
    if len(classes) > 1:
        possible["classification"] = tuple(name for name in dataset.classes if name in classes)
    if maps:
        possible["pixels"] = dataset.map_classes
    if points and len(dataset.classes) == 1:
        possible["keypoints"] = tuple(dataset.skeleton.names)
    if objects:
        possible["objects"] = (*dataset.classes, BACKGROUND)
    if points:
        possible.setdefault("keypoints", tuple(dataset.skeleton.names))
    if not possible:
        raise EvidenceError(f"{dataset.name}: no labels to learn from: a probe needs classes of pictures, objects, label maps or keypoints")
    name = wanted or next(iter(possible))
    if name not in possible:
        raise EvidenceError(f"{dataset.name}: there is nothing for the task {name!r}; there is for {', '.join(possible)}")
    return Task(name, possible[name], SIDE[name])  # type: ignore[arg-type]


def crops_of(task: Task, dataset: Dataset, sample: Sample, owner: int, seed: list[int]) -> Crops:
    """What is shown of one sample. seed: of where background is taken from."""
    image = np.ascontiguousarray(sample["image"] if sample["image"].shape[2] == 3 else np.repeat(sample["image"], 3, axis=2))
    match task.name:
        case "classification":
            pixels, targets = _whole(task, dataset, sample, image)
        case "pixels":
            pixels, targets = _pixels(task, sample, image)
        case "objects":
            pixels, targets = _objects(task, sample, image, seed)
        case "keypoints":
            pixels, targets = _keypoints(task, sample, image)
    return Crops(pixels, targets, np.full(len(pixels), owner, np.int64))


def join(parts: list[Crops]) -> Crops:
    """All crops as one."""
    return Crops(np.concatenate([part.pixels for part in parts]), np.concatenate([part.targets for part in parts]),
                   np.concatenate([part.owner for part in parts]))  # fmt: skip


def counts(task: Task, crops: Crops, answers: NDArray[np.int32], pictures: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Right and all, (pictures, columns) float64 each. answers: the network's, as `Crops.targets`.

    For pixels the two are intersection and union of each class.
    """
    right, whole = np.zeros((pictures, len(task.columns))), np.zeros((pictures, len(task.columns)))
    truth = crops.targets
    if task.name == "pixels":
        for column in range(len(task.columns)):
            given, true = answers == column, truth == column
            known = truth >= 0
            np.add.at(right[:, column], crops.owner, (given & true).sum(axis=(1, 2)))
            np.add.at(whole[:, column], crops.owner, ((given | true) & known).sum(axis=(1, 2)))
        return right, whole
    if task.name == "keypoints":
        near = _distance(task, answers, truth) <= NEAR
        for column in range(len(task.columns)):
            known = truth[:, column] >= 0
            np.add.at(right[:, column], crops.owner[known], near[known, column].astype(np.float64))
            np.add.at(whole[:, column], crops.owner[known], 1.0)
        return right, whole
    np.add.at(right, (crops.owner, truth), (answers == truth).astype(np.float64))
    np.add.at(whole, (crops.owner, truth), 1.0)
    return right, whole


def _distance(task: Task, one: NDArray[np.int32], other: NDArray[np.int32]) -> NDArray[np.float64]:
    """Between cells, as a share of the square's side."""
    across = one % task.cells - other % task.cells
    down = one // task.cells - other // task.cells
    return np.asarray(np.hypot(across, down) / task.cells)


def _shrunk(image: Pixels, box: tuple[int, int, int, int], side: int) -> Pixels:
    x0, y0, x1, y1 = box
    return shrunk(np.ascontiguousarray(image[y0:y1, x0:x1]), side, side)


def _whole(task: Task, dataset: Dataset, sample: Sample, image: Pixels) -> tuple[Pixels, NDArray[np.int32]]:
    """The picture, made square, and its class: the one with the largest share where pictures were mixed."""
    shares = sample["image_classes"]
    if not shares.any():
        return np.zeros((0, task.side, task.side, 3), np.uint8), np.zeros(0, np.int32)
    name = dataset.classes[int(shares.argmax())]
    if name not in task.columns:
        return np.zeros((0, task.side, task.side, 3), np.uint8), np.zeros(0, np.int32)
    height, width = image.shape[:2]
    return _shrunk(image, (0, 0, width, height), task.side)[None], np.array([task.columns.index(name)], np.int32)


def _pixels(task: Task, sample: Sample, image: Pixels) -> tuple[Pixels, NDArray[np.int32]]:
    levels = sample.get("label_map")
    if levels is None:
        return np.zeros((0, task.side, task.side, 3), np.uint8), np.zeros((0, task.cells, task.cells), np.int32)
    height, width = levels.shape
    rows = ((np.arange(task.cells) + 0.5) / task.cells * height).astype(int)
    columns = ((np.arange(task.cells) + 0.5) / task.cells * width).astype(int)
    found = levels[np.ix_(rows, columns)].astype(np.int32)
    found[found >= len(task.columns)] = -1
    return _shrunk(image, (0, 0, width, height), task.side)[None], found[None]


def _object_boxes(sample: Sample, image: Pixels) -> list[tuple[int, tuple[int, int, int, int]]]:
    """The crops around a sample's objects, within the picture."""
    found = []
    for place, (x0, y0, x1, y1) in enumerate(sample["boxes"].tolist()):
        if max(x1 - x0, y1 - y0) < SMALLEST or sample["crowd"][place]:
            continue
        found.append((place, _square((x0 + x1) / 2, (y0 + y1) / 2, max(x1 - x0, y1 - y0) * CONTEXT, image.shape[1], image.shape[0])))
    return found


def _square(x: float, y: float, side: float, width: int, height: int) -> tuple[int, int, int, int]:
    """A square about a point, moved into the picture, and no larger than it."""
    side = max(2.0, min(side, width, height))
    left, top = min(max(x - side / 2, 0.0), width - side), min(max(y - side / 2, 0.0), height - side)
    x0, y0 = int(left), int(top)
    return x0, y0, min(width, x0 + max(2, round(side))), min(height, y0 + max(2, round(side)))


def _objects(task: Task, sample: Sample, image: Pixels, seed: list[int]) -> tuple[Pixels, NDArray[np.int32]]:
    boxes = _object_boxes(sample, image)
    pixels = [_shrunk(image, box, task.side) for _, box in boxes]
    targets = [int(sample["classes"][place]) for place, _ in boxes]
    for box in _backgrounds(sample, boxes, image, np.random.default_rng(seed)):
        pixels.append(_shrunk(image, box, task.side))
        targets.append(len(task.columns) - 1)
    if not pixels:
        return np.zeros((0, task.side, task.side, 3), np.uint8), np.zeros(0, np.int32)
    return np.stack(pixels), np.array(targets, np.int32)


def _backgrounds(sample: Sample, boxes: list[tuple[int, tuple[int, int, int, int]]], image: Pixels,
                 rng: np.random.Generator) -> list[tuple[int, int, int, int]]:  # fmt: skip
    """Crops as large as objects are, that objects hardly cover."""
    height, width = image.shape[:2]
    sides = [box[2] - box[0] for _, box in boxes] or [min(width, height) // 4]
    wanted = max(1, round(len(boxes) * BACKGROUNDS))
    found: list[tuple[int, int, int, int]] = []
    for _ in range(wanted * 12):
        if len(found) == wanted:
            break
        side = float(rng.choice(sides))
        box = _square(rng.uniform(0, width), rng.uniform(0, height), side, width, height)
        if _covered(box, sample["boxes"]) <= MOST_COVERED:
            found.append(box)
    return found


def _covered(box: tuple[int, int, int, int], boxes: NDArray[np.float32]) -> float:
    """The largest share of a square that one object's box covers."""
    if not len(boxes):
        return 0.0
    across = np.minimum(boxes[:, 2], box[2]) - np.maximum(boxes[:, 0], box[0])
    down = np.minimum(boxes[:, 3], box[3]) - np.maximum(boxes[:, 1], box[1])
    return float((np.maximum(across, 0) * np.maximum(down, 0)).max() / max((box[2] - box[0]) * (box[3] - box[1]), 1))


def _keypoints(task: Task, sample: Sample, image: Pixels) -> tuple[Pixels, NDArray[np.int32]]:
    pixels, targets = [], []
    for place, (x0, y0, x1, y1) in _object_boxes(sample, image):
        points = sample["keypoints"][place]
        if not len(points) or not (points[:, 2] > 0).any():
            continue
        column = ((points[:, 0] - x0) / (x1 - x0) * task.cells).astype(int)
        row = ((points[:, 1] - y0) / (y1 - y0) * task.cells).astype(int)
        known = (points[:, 2] > 0) & (column >= 0) & (column < task.cells) & (row >= 0) & (row < task.cells)
        pixels.append(_shrunk(image, (x0, y0, x1, y1), task.side))
        targets.append(np.where(known, row * task.cells + column, -1))
    if not pixels:
        return np.zeros((0, task.side, task.side, 3), np.uint8), np.zeros((0, len(task.columns)), np.int32)
    return np.stack(pixels), np.stack(targets).astype(np.int32)
