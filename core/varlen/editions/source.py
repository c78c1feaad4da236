"""The dataset and the pipeline that an edition was made from."""

from __future__ import annotations

from pathlib import Path

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import open_files
from varlen.editions.record import RECORD, EditionRecord
from varlen.editions.rows import Row, images_of, read_rows
from varlen.editions.source_labels import dataset_of_row
from varlen.errors import EditionError, ReadProblems, VarlenError
from varlen.pipeline.document import Pipeline, from_json
from varlen.steps.registry import CATALOGUE
from varlen.stores import url_of


def source_of(edition: Path, record: EditionRecord, dataset: Path | None, name: str = "--dataset", row: Row | None = None) -> Dataset:
    """The dataset that an edition was made from, read as it was read then. Raises `VarlenError` where it isn't there.

    dataset: where it is now; name: what that is called where it is asked for; row: where that alone is to be made again: its labels are those
    that the edition keeps, unless another place was named.
    """
    source = dataset or Path(record.get("dataset_path") or "")
    if not source.name or not (url_of(source) or source.exists()):
        where = f"{source} is not there" if source.name else "the edition does not say where"
        raise VarlenError(f"{edition}: its source dataset is needed, and {where}; name it with {name}")
    options = ImportOptions.from_json(record.get("read_as", {}))
    if row is not None and dataset is None and "source_labels" in record and not options.levels and options.tile is None:
        kept = dataset_of_row(edition, row, record["dataset"], open_files(source))
        if kept is not None:
            return kept
    only = None if row is None else images_of(row)
    return read_dataset(source, None, ReadProblems(strict=False), options, only=only)


def recorded_pipeline(edition: Path, record: EditionRecord) -> Pipeline:
    """The pipeline that an edition was made with. Raises `EditionError` where a step from outside is not known here."""
    missing = [name for name in record.get("outside_steps", {}) if name not in CATALOGUE]
    if missing:
        raise EditionError(f"{edition}: there is no step {missing[0]!r}; it came from outside when the edition was made: import the module that "
                           "defines it first, or name its file in VARLEN_STEPS")  # fmt: skip
    return from_json(record["pipeline"], str(edition))


def known_splits(path: Path) -> dict[str, str]:
    """The split of every picture of a dataset or edition, by the SHA-256 of its file; of editions that of its sources."""
    if (path / RECORD).is_file():
        return {row["source_sha256"]: row["split"] for row in read_rows(path)}
    other = read_dataset(path)
    return {other.source_digest(key): entry.split for key, entry in other.entries.items()}
