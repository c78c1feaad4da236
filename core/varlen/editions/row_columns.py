"""The rows of an edition as columns, in a Parquet file, for tools that ask questions of tables; with the extra `columns`.

`rows.jsonl` stays what the record vouches for: the file can be made from it at any time.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import orjson

from varlen.atomic_files import part_of
from varlen.editions.rows import Row, read_rows
from varlen.errors import EditionError
from varlen.stores import url_of

#: Rows that are held and written at a time.
GROUP = 10_000


def write_columns(edition: Path, out: Path, progress: Callable[[int], None] = lambda done: None) -> int:
    """Write the rows of an edition, a folder or the URL of one, to a Parquet file, whole or not at all; returns their number.

    progress: called with rows that are written. Raises `EditionError` where the rows can't be read or the file not be written, within an
    edition, which holds only what its record vouches for, and without the package.
    """
    if url_of(edition) is None and out.resolve().is_relative_to(edition.resolve()):
        raise EditionError(f"{out}: is within the edition; write it beside that")
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise EditionError("rows as columns need a package: pip install 'varlen[columns]'") from None
    schema = _schema(pyarrow)
    part = part_of(out)
    count = 0
    try:
        with pyarrow.parquet.ParquetWriter(part, schema, compression="zstd") as writer:
            for rows in _groups(read_rows(edition)):
                writer.write_table(pyarrow.Table.from_pylist([_columns_of(row) for row in rows], schema))
                count += len(rows)
                progress(count)
        part.replace(out)
    except OSError as error:
        raise EditionError(f"{out}: {error.strerror or error}") from None
    finally:
        part.unlink(missing_ok=True)
    return count


def _groups(rows: Iterator[Row]) -> Iterator[list[Row]]:
    while group := list(itertools.islice(rows, GROUP)):
        yield group


def _schema(arrow: Any) -> Any:
    """Columns and their types. Names repeat from row to row and are kept once each."""
    text, share = arrow.string(), arrow.float64()
    lost = arrow.struct([("image", text), ("id", text), ("reason", text), ("step", text), ("share", share)])
    return arrow.schema(
        [
            ("row", arrow.int64()),
            ("file", text),
            ("split", text),
            ("source", text),
            ("source_sha256", text),
            ("source_labels", text),
            ("variant", arrow.int32()),
            ("width", arrow.int32()),
            ("height", arrow.int32()),
            ("file_sha256", text),
            ("pixel_digest", text),
            ("objects", arrow.int32()),
            ("classes", arrow.map_(text, arrow.int32())),
            ("image_classes", arrow.list_(text)),
            ("fired", arrow.list_(text)),
            ("partners", arrow.list_(text)),
            ("passes", arrow.int32()),
            ("blank_share", share),
            ("kept", arrow.int32()),
            ("clipped", arrow.list_(lost)),
            ("dropped", arrow.list_(lost)),
            ("trace", text),
        ]
    )


def _columns_of(row: Row) -> dict[str, Any]:
    """A row's values by column; what was drawn stays as JSON, since every step draws other things."""
    trace = row["trace"]
    width, height = trace["size"]
    return {
        **{
            name: row.get(name)
            for name in ("row", "file", "split", "source", "source_sha256", "source_labels", "variant", "file_sha256", "pixel_digest")
        },
        "width": width,
        "height": height,
        "objects": sum(row["classes"].values()),
        "classes": list(row["classes"].items()),
        "image_classes": row.get("image_classes", []),
        "fired": [step["id"] for step in trace["steps"] if step["fired"]],
        "partners": list(trace.get("partners_sha256", {})),
        "passes": trace["passes"],
        "blank_share": trace["blank_share"],
        "kept": trace["objects"]["kept"],
        "clipped": trace["objects"]["clipped_by"],
        "dropped": trace["objects"]["dropped"],
        "trace": orjson.dumps(trace).decode(),
    }
