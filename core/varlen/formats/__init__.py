"""Dataset formats, one file each; recognised from the files themselves."""

from __future__ import annotations

from pathlib import Path

from varlen.dataset import Dataset
from varlen.errors import DatasetError
from varlen.files import Folder, open_files
from varlen.formats import coco


def read_dataset(path: Path | str, form: str | None = None) -> Dataset:
    """Read a dataset from a folder, a zip or an annotation file; `form` overrides recognition."""
    path = Path(path)
    files = open_files(path)
    only = path.relative_to(files.root).as_posix() if path.is_file() and isinstance(files, Folder) else None
    if form not in (None, coco.NAME):
        raise DatasetError(f"there is no dataset format {form!r}; known is {coco.NAME}")
    if form is None and only is None and not coco.recognise(files):
        raise DatasetError(f"{path}: not recognised as a dataset; expected COCO annotations (annotations/*.json or *.json)")
    return coco.read(files, only)
