"""An edition's digest and its rows: everything in them counts, and changed sources are found."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from varlen.datasets.dataset import Dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import OutputDigest, read_record
from varlen.editions.recreate import recreate
from varlen.editions.rows import find_row, read_rows
from varlen.editions.verify import verify
from varlen.errors import EditionError

from tests.conftest import make_pipeline
from tests.core.golden.dataset import MemoryFiles, golden, png
from tests.core.scenes import polygon, scene, square

HEAD: dict[str, Any] = {
    "varlen": "0.1.0", "dataset_digest": "sha256:d", "pipeline_digest": "sha256:p", "seed": 3, "variants": 2, "originals": True,
    "format": "yolo", "image": "jpeg", "quality": 80,
}  # fmt: skip


def digest(head: dict[str, Any], *images: tuple[str, str, dict[str, str]], labels: tuple[tuple[str, str], ...] = ()) -> str:
    found = OutputDigest(head)  # type: ignore[arg-type]
    for image in images:
        found.add_image(*image)
    for each in labels:
        found.add_labels(*each)
    return str(found)


IMAGES = (("a.jpg", "sha256:1", {"a.txt": "11", "b.txt": "12"}), ("b.jpg", "sha256:2", {}))
LABELS = (("data.yaml", "13"),)


@pytest.mark.parametrize(
    "changed",
    [
        *[({**HEAD, name: "other"}, IMAGES, LABELS) for name in HEAD],
        ({**HEAD, "splits": ["train"]}, IMAGES, LABELS),
        ({**HEAD, "split_variants": {"test": 2}}, IMAGES, LABELS),
        (HEAD, IMAGES[::-1], LABELS),
        (HEAD, (("other.jpg", *IMAGES[0][1:]), IMAGES[1]), LABELS),
        (HEAD, ((IMAGES[0][0], "sha256:0", IMAGES[0][2]), IMAGES[1]), LABELS),
        (HEAD, ((*IMAGES[0][:2], {"a.txt": "10", "b.txt": "12"}), IMAGES[1]), LABELS),
        (HEAD, ((*IMAGES[0][:2], {"c.txt": "11", "b.txt": "12"}), IMAGES[1]), LABELS),
        (HEAD, IMAGES, (("data.yaml", "0"),)),
        (HEAD, IMAGES, ()),
    ],
)
def test_all_that_an_edition_is_made_of_counts(changed: tuple[dict[str, Any], Any, Any]) -> None:
    head, images, labels = changed
    assert digest(head, *images, labels=labels) != digest(HEAD, *IMAGES, labels=LABELS)


def test_what_does_not_count() -> None:
    once = digest(HEAD, *IMAGES, labels=LABELS)
    assert digest({**HEAD, "dataset": "other name", "dataset_path": "/else", "versions": {}}, *IMAGES, labels=LABELS) == once
    reordered = ((*IMAGES[0][:2], {"b.txt": "12", "a.txt": "11"}), IMAGES[1])
    assert digest(HEAD, *reordered, labels=LABELS) == once


def test_every_choice_of_an_order_makes_another_edition(tmp_path: Path) -> None:
    dataset, pipeline = scene({"a": [{"box": [10.0, 10.0, 40.0, 40.0]}], "b": []}), make_pipeline({"step": "flip", "probability": 0.5})
    orders = [
        ExportSpec(variants=1), ExportSpec(variants=2), ExportSpec(variants=1, originals=False), ExportSpec(variants=1, image="png"),
        ExportSpec(variants=1, quality=80), ExportSpec(variants=1, format="yolo"), ExportSpec(variants=1, image="webp"),
    ]  # fmt: skip
    digests = [export(dataset, pipeline, tmp_path / str(place), order, accept_loss="all")["output_digest"] for place, order in enumerate(orders)]
    assert len(set(digests)) == len(orders)
    crowded = scene({"a": [{"box": [10.0, 10.0, 40.0, 40.0], "crowd": True}], "b": []})
    assert export(crowded, pipeline, tmp_path / "crowd", orders[0], accept_loss="all")["output_digest"] not in digests
    assert all(verify(tmp_path / str(place)) == [] for place in range(len(orders)))


def test_a_row_says_what_it_was_made_from(tmp_path: Path) -> None:
    dataset = scene({"a": [{"box": [10.0, 10.0, 40.0, 40.0]}, {"box": [90.0, 10.0, 120.0, 40.0], "class": 1}], "b": []})
    export(dataset, make_pipeline({"step": "flip"}), tmp_path / "out", ExportSpec(variants=1, format="yolo"), accept_loss="all")
    rows = list(read_rows(tmp_path / "out"))
    assert [(row["row"], row["source"], row["variant"], row["split"]) for row in rows] == [
        (0, "a", 0, "train"), (1, "a", 1, "train"), (2, "b", 0, "train"), (3, "b", 1, "train"),
    ]  # fmt: skip
    assert rows[1]["classes"] == {"ash veil": 1, "copper hook": 1}
    assert rows[1]["label_files"].keys() == {rows[1]["file"].replace("images", "labels").replace(".jpg", ".txt")}
    assert rows[0]["source_labels"] == rows[1]["source_labels"] != rows[2]["source_labels"]
    assert find_row(tmp_path / "out", "2") == rows[2] == find_row(tmp_path / "out", rows[2]["file"])
    with pytest.raises(EditionError, match="there is no row 4"):
        find_row(tmp_path / "out", "4")
    record = read_record(tmp_path / "out")
    assert record["counts"]["train"] == {
        "images": 4,
        "objects": 4,
        "classes": {"ash veil": 2, "copper hook": 2},
        "image_classes": {"ash veil": 2, "copper hook": 2},
    }


@pytest.mark.parametrize("name", ["edition.json", "rows.jsonl"])
def test_damaged_records_are_named(tmp_path: Path, name: str) -> None:
    export(scene({"a": []}), make_pipeline(), tmp_path / "out", ExportSpec(variants=0))
    (tmp_path / "out" / name).write_text('{"varlen_edition": 2')
    with pytest.raises(EditionError, match=f"{name}: damaged"):
        list(read_rows(tmp_path / "out")) if name == "rows.jsonl" else read_record(tmp_path / "out")
    (tmp_path / "out" / name).unlink()
    with pytest.raises(EditionError, match="no edition here" if name == "edition.json" else "No such file"):
        list(read_rows(tmp_path / "out")) if name == "rows.jsonl" else read_record(tmp_path / "out")
    (tmp_path / "out" / "edition.json").write_text(json.dumps({"varlen_edition": 2}))
    with pytest.raises(EditionError, match="not the record of an edition"):
        read_record(tmp_path / "out")


def test_recreating_needs_the_pictures_of_all_partners_as_they_were(tmp_path: Path) -> None:
    source = golden()
    export(source, make_pipeline({"step": "mixup"}), tmp_path / "out", ExportSpec(variants=1, originals=False), accept_loss="all")
    row = next(row for row in read_rows(tmp_path / "out") if row["source"] == "images/wide.png")
    (partner,) = row["trace"]["partners_sha256"]
    assert recreate(tmp_path / "out", row, golden()).identical
    for key, word in ((partner, "has changed"), (row["source"], "has changed")):
        size = source.size_of(key)
        files = MemoryFiles({**source.files.files, key: png(np.zeros((size.height, size.width, 3), np.uint8))})  # type: ignore[attr-defined]
        with pytest.raises(EditionError, match=f"{key}: the source picture {word}"):
            recreate(tmp_path / "out", row, Dataset("golden", source.classes, source.entries.values(), files, source.skeleton))
    without = [entry for key, entry in source.entries.items() if key != partner]
    with pytest.raises(EditionError, match=f"{partner}: no such image in golden"):
        recreate(tmp_path / "out", row, Dataset("golden", source.classes, without, source.files, source.skeleton))


def test_pictures_are_named_by_what_is_done_to_their_pixels() -> None:
    """Equal plans on equal sources have one name, whatever the steps are called; anything that changes a pixel changes it."""
    from varlen.render.renderer import Renderer

    def name(*steps: dict[str, Any], image: str = "a", variant: int = 1, **head: Any) -> str:
        rows = {"a": [{"box": [10.0, 10.0, 40.0, 40.0]}, {"polygon": polygon(square(50, 50, 70, 70))}], "b": []}
        renderer = Renderer(scene(rows), make_pipeline(*steps, **head))
        return renderer.picture_key(renderer.plan(image, variant))

    plain = name({"step": "rotate", "degrees": [10, 10]})
    assert name({"step": "rotate", "degrees": [10, 10], "id": "other"}, variant=7, seed=9) == plain
    assert name({"step": "rotate", "degrees": [10, 10]}, {"step": "flip", "probability": 0}) == plain
    others = [
        name({"step": "rotate", "degrees": [11, 11]}), name({"step": "rotate", "degrees": [10, 10]}, image="b"),
        name({"step": "rotate", "degrees": [10, 10], "edges": "mirror"}), name({"step": "rotate", "degrees": [10, 10], "edge_color": [1, 0, 0]}),
        name({"step": "rotate", "degrees": [10, 10]}, {"step": "gamma", "exponent": [1.2, 1.2]}),
        name({"step": "rotate", "degrees": [10, 10]}, {"step": "blur", "sigma_px": [1, 1]}), name({"step": "blur", "sigma_px": [1, 1]}),
        name({"step": "blur", "sigma_px": [1.5, 1.5]}), name({"step": "cutout"}), name({"step": "cutout"}, variant=2), name({"step": "mixup"}),
        name({"step": "mixup"}, variant=2), name({"step": "mosaic"}), name({"step": "mosaic"}, variant=2), name({"step": "paste_objects"}, image="b"),
        name({"step": "noise", "within": "objects"}), name({"step": "noise", "within": "objects"}, variant=2),
        name({"step": "resize", "width_px": 40, "height_px": 40}), name({"step": "resize", "width_px": 40, "height_px": 40, "fit": "cover"}),
    ]  # fmt: skip
    assert len({plain, *others}) == len(others) + 1
