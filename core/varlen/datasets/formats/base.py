"""What every dataset format has: a way to tell it, a reader, and a writer.

Conventions of a format (where coordinates count from, what is a share and what a pixel) are
met in its own file and nowhere else.
"""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import Any, ClassVar, NamedTuple, Protocol

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.formats.tree import Doubt
from varlen.datasets.image_files import SUFFIX, ImageType, check_claim, encode, upright_size
from varlen.datasets.level_rules import MapLevels
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.errors import DAMAGE, DatasetError, ImageError, ReadProblems
from varlen.model.geometry import Size
from varlen.model.objects import Objects, make_objects
from varlen.shapes.polygons import bounds as polygon_bounds
from varlen.shapes.polygons import object_mask


class ListedImage(NamedTuple):
    """An image that a dataset lists: its key, and what its format needs to read its labels, fit to be sent to another process."""

    key: str
    body: Any


class ReadsLabels(Protocol):
    """Reads the labels of a listed image; can be sent to another process."""

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        """The image with its labels; what can't be used of them is noted in `problems`."""


@dataclass(frozen=True, slots=True)
class Reading:
    """A dataset on its way in: what is known before its images, and the images one at a time.

    listed: quick to go through; read: what takes time; count: how many images are listed, some of which may
    turn out not to be there; problems: what was noted so far; drawn: whether splits were drawn because the files name
    none; columns: of a table, what each is read as; map_levels: how the label maps at the paths `maps` are read; pictures,
    labels: the files of the listed images, and those that `read` opens for their labels; side: patterns of files that hold none;
    doubt: what is to be asked where the format was recognised and not named.
    """

    classes: tuple[str, ...]
    listed: Iterator[ListedImage]
    read: ReadsLabels
    count: int
    problems: ReadProblems
    skeleton: Skeleton = field(default_factory=Skeleton)
    extra: dict[str, Any] = field(default_factory=dict)
    map_classes: tuple[str, ...] = ()
    drawn: bool = False
    columns: dict[str, str] = field(default_factory=dict)
    map_levels: MapLevels = field(default_factory=MapLevels)
    maps: frozenset[str] = frozenset()
    pictures: Callable[[], Iterable[str]] = tuple
    labels: Callable[[], Iterable[str]] = tuple
    side: tuple[str, ...] = ()
    doubt: Doubt | None = None

    @property
    def entries(self) -> Iterator[Entry]:
        """All images with their labels, once; those that can't be read are noted, or raised where problems are."""
        for image in self.listed:
            entry = read_image(self.read, image, self.problems)
            if entry is not None:
                yield entry


def read_image(read: ReadsLabels, image: ListedImage, problems: ReadProblems) -> Entry | None:
    """One image with its labels; None, and a note of why, where its labels or its picture can't be read.

    Whatever a damaged file brings about in a reader ends here, as one line that names it.
    """
    try:
        entry = read(image, problems)
        check_claim(entry.key, entry.size)
        return entry
    except ImageError as error:
        problems.note("damaged-file", str(error))
    except DatasetError as error:
        problems.note("bad-label", str(error))
    except DAMAGE as error:
        problems.note("bad-label", f"{image.key}: its labels can't be read ({type(error).__name__}: {str(error)[:120]})")
    return None


@dataclass(frozen=True, slots=True)
class ImageLabels:
    """All that is known of one picture to be written.

    classes: image-level classes and how much of the picture stands for each; label_map: the
    class of every pixel, (H, W) uint8, where there is one; extra: the source's own fields.
    """

    size: Size
    objects: Objects
    classes: dict[str, float] = field(default_factory=dict)
    label_map: NDArray[np.uint8] | None = None
    extra: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class EncodedLabels:
    """One picture's labels on their way to the label files.

    image, labels: JSON without line breaks, kept until all pictures are made and then given to
    `Writer.write_label_files`; files: files of its own beside the picture, by path.
    """

    image: bytes = b"{}"
    labels: list[bytes] = field(default_factory=list)
    files: dict[str, bytes] = field(default_factory=dict)


class WrittenImage(Protocol):
    """What `Writer.write_label_files` gets of each picture, in the edition's order."""

    @property
    def split(self) -> str: ...

    @property
    def file(self) -> str: ...

    @property
    def image(self) -> bytes: ...

    @property
    def labels(self) -> list[bytes]: ...


class ScalesPixels(Protocol):
    """What makes pixels (…, C) uint8 into the numbers of an array, float32."""

    def apply(self, pixels: NDArray[np.uint8]) -> NDArray[np.float32]: ...


class Writer:
    """Writes datasets in one format. A subclass says where pictures go and what labels look like."""

    name: ClassVar[str]
    #: What people call it, and where in a written dataset pictures and labels are.
    title: ClassVar[str]
    layout: ClassVar[str]
    #: Whether label maps are written, and so must be made.
    label_maps: ClassVar[bool] = False
    #: Whether pictures end up inside larger files.
    packs: ClassVar[bool] = False
    #: Whether pictures of a split may lie in folders below its own, where there are very many.
    spreads: ClassVar[bool] = True
    #: Whether pictures are coded as JPEG, PNG or WebP; else they are arrays.
    coded: ClassVar[bool] = True
    #: The kinds of labels it keeps (see `losses.KINDS`), in whatever shape.
    holds: ClassVar[frozenset[str]] = frozenset()
    #: Of attributes only these fields are kept; None for all, where it holds attributes.
    fields: ClassVar[frozenset[str] | None] = None

    def __init__(self, dataset: Dataset, figures: ScalesPixels | None = None) -> None:
        """figures: shift and scale pixels, in formats that hold arrays; None leaves them uint8."""
        self.dataset, self.figures = dataset, figures

    @cached_property
    def contents(self) -> LabelCounts:
        """What kinds of labels the dataset has."""
        return LabelCounts(self.dataset)

    def picture_path(self, split: str, name: str, suffix: str, labels: ImageLabels) -> str:
        """Where a picture goes, relative to the dataset's folder."""
        return f"images/{split}/{name}{suffix}"

    def suffix_for(self, kind: ImageType) -> str:
        """The suffix of picture files."""
        return SUFFIX[kind]

    def picture(self, pixels: NDArray[np.uint8], kind: ImageType, quality: int) -> bytes:
        """The picture's file."""
        return encode(pixels, kind, quality)

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        """One picture's labels."""
        raise NotImplementedError

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        """Write the label files of all pictures, streaming; returns their paths.

        All of `images` must be taken, for they are made as they are asked for; this does only that.
        """
        for _ in images:
            pass
        return []

    def losses(self) -> list[str]:
        """What the dataset has that this format can't hold, one line each."""
        return []


def is_plain(name: str, value: Any) -> bool:
    """Whether a field can be an element of XML: a number or a text under a name without spaces."""
    return name.isidentifier() and isinstance(value, (str, int, float))


#: Values of fields that say no more than a missing field would.
_SAYS_NOTHING: tuple[Any, ...] = (None, "", 0, "0", False, [], {}, "Unspecified")


class LabelCounts:
    """What kinds of labels a dataset has."""

    def __init__(self, dataset: Dataset) -> None:
        self.boxes = self.outlines = self.holes = self.parts = self.masks = self.keypoints = self.crowd = self.extra = 0
        self.classes = self.many_classes = self.label_maps = self.oriented = self.pointed = 0
        #: Objects that have a field, by its name; what every object has without saying anything does not count.
        self.fields: Counter[str] = Counter()
        #: Those of them that are no plain text or number under a plain name.
        self.unplain: Counter[str] = Counter()
        for entry in dataset.entries.values():
            objects = entry.objects
            self.boxes += len(objects)
            owners, holes = objects.outlines.owners, objects.outlines.holes
            outlined = len(np.unique(owners))
            self.outlines += outlined - int(objects.oriented.alone.sum())
            self.oriented += len(objects.oriented.owners)
            self.holes += int(holes.sum())
            self.parts += int((~holes).sum()) - outlined
            self.masks += sum(mask is not None for mask in objects.masks)
            self.keypoints += int(np.count_nonzero(objects.keypoints[:, :, 2])) if len(objects) else 0
            self.pointed += int((objects.keypoints[:, :, 2] > 0).any(axis=1).sum()) if len(objects) else 0
            self.crowd += int(objects.crowd.sum())
            self.extra += sum(bool(attributes) for attributes in objects.attributes)
            for attributes in objects.attributes:
                self.fields.update(name for name, value in attributes.items() if value not in _SAYS_NOTHING)
                self.unplain.update(name for name, value in attributes.items() if not is_plain(name, value))
            self.classes += bool(entry.classes)
            self.many_classes += len(entry.classes) > 1
            self.label_maps += bool(entry.label_map)

    def lost(self, **kinds: str) -> list[str]:
        """A line for each of the kinds that there are, e.g. keypoints="…"."""
        return [f"{getattr(self, kind)} {text}" for kind, text in kinds.items() if getattr(self, kind)]


#: A box that is this near to the bounds of its outline or mask, px, says nothing of its own.
NEAR_PX = 1.0


def own_boxes(objects: Objects) -> int:
    """How many objects have no outline and no mask, or a box that is not just its bounds."""
    own = len(objects)
    bounded = {place: (*polygon_bounds(polygon),) for place, polygon in enumerate(objects.polygons) if polygon is not None}
    bounded |= {place: mask.box for place, mask in enumerate(objects.masks) if mask is not None}
    for place, bounds in bounded.items():
        own -= bool(np.abs(objects.boxes[place] - np.array(bounds)).max() <= NEAR_PX)
    return own


def size_of(files: SourceFiles, path: str) -> Size:
    """Upright size of a picture, from its header."""
    return upright_size(files.read(path), path)


def json_bytes(value: Any, option: int = 0) -> bytes:
    """A label as JSON, in as much memory as it needs: each result of `orjson.dumps` keeps 4 KB, of which 100,000 labels would fill 400 MB."""
    return bytes(memoryview(orjson.dumps(value, option=option)))


def numbered(names: Iterable[str]) -> dict[str, int]:
    """The place of each name."""
    return {name: number for number, name in enumerate(names)}


#: The longest name of a file, bytes.
LONGEST_NAME = 255
_CUT_TO = 200


def fitting_name(name: str, end: str, suffix: str, key: str) -> str:
    """`name` with `end`; cut, with a mark that follows from the key, where no file can be called so."""
    encoded = name.encode("utf-8", "surrogatepass")
    if len(encoded) + len(end) + len(suffix) <= LONGEST_NAME:
        return name + end
    return f"{encoded[:_CUT_TO].decode('utf-8', 'ignore')}_{_mark(key)}{end}"


def no_objects(key: str) -> Objects:
    """What an image without objects has of them."""
    return make_objects([], key, [], [], [], [], [], [], [])


def paint_objects(objects: Objects, size: Size, levels: list[int]) -> NDArray[np.uint8]:
    """Every object's pixels in its own level, later ones over earlier ones, 0 elsewhere: (H, W) uint8."""
    out = np.zeros((size.height, size.width), np.uint8)
    for place, level in enumerate(levels):
        stamp = object_mask(objects, place)
        stamp = stamp.within(size) if stamp is not None else None
        if stamp is not None:
            height, width = stamp.pixels.shape
            part = out[stamp.top : stamp.top + height, stamp.left : stamp.left + width]
            part[stamp.pixels == 1] = level
    return out


def parse_json(files: SourceFiles, path: str) -> Any:
    """A JSON file. Raises `DatasetError` naming it."""
    try:
        return json.loads(files.read(path))
    except (ValueError, RecursionError) as error:
        raise DatasetError(f"{path}: not JSON ({error})") from None


class FileNames:
    """A short name for each image, unique in its split: the path below images/<split>/, flattened."""

    def __init__(self, dataset: Dataset) -> None:
        self._dataset = dataset
        self._met: set[int] = set()
        self._met = _twice(f"{split}\x1f{_short(key, split).lower()}" for split, key in self._all())

    def __getitem__(self, key: str) -> str:
        return self._name(key, self._dataset.entries[key].split)

    def in_many_splits(self) -> set[str]:
        """Names that several splits have."""
        met = _twice(self._name(key, split) for split, key in self._all())
        return {name for name in (self._name(key, split) for split, key in self._all()) if short_hash(name) in met} if met else set()

    def _all(self) -> Iterator[tuple[str, str]]:
        return ((split, key) for split, keys in self._dataset.by_split().items() for key in keys)

    def _name(self, key: str, split: str) -> str:
        name = _short(key, split)
        if self._met and short_hash(f"{split}\x1f{name.lower()}") in self._met:
            name += f"_{_mark(key)}"
        return name


def _mark(key: str) -> str:
    """What tells keys apart whose names are alike."""
    return hashlib.sha256(key.encode("utf-8", "surrogatepass")).hexdigest()[:8]


#: No folder gets more files than this, where its format can spread them.
MOST_FILES = 10_000


def spread(key: str, images: int) -> str:
    """The folder below its split's, with a slash, that an image's pictures go to where a split has `images` of them; "" where they fit into one.

    It follows from the key, so that it is the same in every process and whatever else there is; folders come out half full on average.
    """
    if images <= MOST_FILES:
        return ""
    letters = 2 if images <= 128 * MOST_FILES else 3
    return hashlib.blake2b(key.encode("utf-8", "surrogatepass"), digest_size=4).hexdigest()[:letters] + "/"


def _short(key: str, split: str) -> str:
    path = PurePosixPath(key)
    parts = [part for part in path.with_suffix("").parts if part not in ("images", "JPEGImages", split, "val")]
    return "_".join(parts) or path.stem


def short_hash(text: str) -> int:
    """Eight bytes that stand for a text, as a signed number: enough to tell millions of paths apart, at a tenth of their memory."""
    return int.from_bytes(hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).digest(), "big", signed=True)


def _twice(texts: Iterable[str]) -> set[int]:
    """Hashes of the texts that come more than once; eight bytes a text, so that many fit into memory."""
    hashes = np.fromiter(map(short_hash, texts), np.int64)
    hashes.sort()
    return repeated(hashes)


def repeated(hashes: NDArray[np.int64]) -> set[int]:
    """Those of sorted numbers that come more than once."""
    return set(hashes[:-1][hashes[1:] == hashes[:-1]].tolist())
