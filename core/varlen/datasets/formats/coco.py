"""COCO JSON: boxes, polygons, run-length masks, keypoints, crowd regions.

Conventions of the format: boxes are [x, y, width, height] from the top-left corner, in
continuous pixels; polygons likewise; a keypoint names a pixel by its index, so its centre is
half a pixel further: x + 0.5 here, x − 0.5 when written. Numbers are written to 1/10000 px.

Read: any `*.json` with images, annotations and categories, wherever it lies; the split is derived
from its name or folder (train, val / validation, test, with a year or without). Several files may
speak of the same pictures. Fields not known here are kept and written again. An image's `group` field
names the images it belongs with, such as the frames of one clip. Oriented boxes are written as the field
`oriented_box`, eight numbers, beside their outline; a set whose outlines all are four corners of a
rectangle is read as oriented boxes.
"""

from __future__ import annotations

from bisect import bisect_left

from varlen.datasets.formats.base import Reading
from varlen.datasets.formats.coco_objects import NAME as NAME
from varlen.datasets.formats.coco_reading import MOST_FILES, CocoReader
from varlen.datasets.formats.tree import Signs, Tree, spread, stem_of
from varlen.datasets.import_options import ImportOptions
from varlen.errors import DatasetError, ReadProblems

#: How labels are read, for people.
CONVENTION = "boxes read as left, top, width, height in pixels"


def signs(tree: Tree) -> Signs:
    """Whether there are annotation files of this form, anywhere."""
    found = annotation_files(tree)
    if found:
        return Signs(1.0, found[:5], against=[path for path in tree.ending(".json")[:200] if path not in found][:3])
    return Signs(0.0, [], "a .json file with images, annotations and categories")


def annotation_files(tree: Tree) -> list[str]:
    """The annotation files of a folder or zip, sorted."""
    paths = tree.ending(".json")
    # A file with a picture's name may hold one picture's labels: of many such a few are looked into.
    alone = [path for path in paths if stem_of(path) not in tree.by_stem] if len(paths) > MOST_FILES else paths
    return [path for path in spread(alone or paths, MOST_FILES) if _looks_like_one(tree, path)]


def _looks_like_one(tree: Tree, path: str) -> bool:
    """Whether a file holds what this form has; where its list of images is long and comes first, nothing else is near the beginning."""
    head = tree.head(path, 200_000)
    opens = head.lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"{"
    listed = b'"images"' in head and (b'"annotations"' in head or b'"categories"' in head or b'"file_name"' in head)
    labelled = b'"annotations"' in head and (b'"image_id"' in head or b'"categories"' in head)
    return opens and (listed or labelled) and b'"segments_info"' not in head and not _is_painted(tree, path)


def _is_painted(tree: Tree, path: str) -> bool:
    """Whether a folder of PNGs of the file's name holds its labels, as of panoptic sets."""
    folder = path.rpartition(".")[0] + "/"
    at = bisect_left(tree.paths, folder)
    return at < len(tree.paths) and tree.paths[at].startswith(folder) and tree.paths[at].lower().endswith(".png")


def read(tree: Tree, problems: ReadProblems, options: ImportOptions, only: str | None = None) -> Reading:
    """All annotation files, or `only` one. Raises `DatasetError` with file and place."""
    paths = [only] if only else annotation_files(tree)
    reader = CocoReader(tree, problems)
    for path in paths:
        try:
            reader.look_through(path, alone=len(paths) == 1)
        except DatasetError as error:
            if problems.strict:
                raise
            reader.forget(path)
            problems.note("bad-label", str(error))
    if not reader.read:
        none = f"{tree.files.label}: no annotation file with images, annotations and categories"
        raise DatasetError(problems.noted[0][1] if problems.noted else none)
    return reader.reading()
