"""What version 0.1 left behind: editions of every format, and a pipeline file written by hand, kept in `kept/version-0.1.zip`."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import pytest
from varlen.datasets.formats import WRITERS, read_dataset
from varlen.editions.deep_verify import verify_deep
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import read_record
from varlen.editions.recreate import recreate
from varlen.editions.rows import read_rows
from varlen.editions.verify import verify
from varlen.errors import PipelineError
from varlen.pipeline.document import Pipeline
from varlen.render.renderer import Renderer

from tests.core.cli.test_cli import refused, varlen

KEPT = Path(__file__).parent / "kept" / "version-0.1.zip"


@pytest.fixture(scope="session")
def past(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("past")
    with zipfile.ZipFile(KEPT) as archive:
        archive.extractall(folder)
    return folder


@pytest.mark.parametrize("form", [form for form in WRITERS if form != "picture-json"])  # which came later
def test_an_edition_of_0_1_is_verified_and_recreated(past: Path, form: str) -> None:
    """Checked against its record, remade whole from its source, and single rows made again: every byte is as it was."""
    edition = past / "editions" / form
    record, digests = read_record(edition), json.loads((past / "digests.json").read_text())
    dataset = read_dataset(past / ("classes" if form == "class-folders" else "dataset"))
    assert verify(edition, record=record["record_digest"]) == []
    assert record["output_digest"] == digests["editions"][form]
    assert verify_deep(edition, lambda: dataset).problems == []
    rows = list(read_rows(edition))
    mosaic = next(row for row in rows if any(step["id"] == "mosaic" for step in row["trace"]["steps"]))
    for row in (rows[0], mosaic):
        assert recreate(edition, row, dataset).differences == []


def test_a_pipeline_file_of_0_1_is_upgraded(past: Path, tmp_path: Path) -> None:
    """A single number stood for a range of that number: the file is refused with both spellings, and upgraded to what it meant."""
    digest = json.loads((past / "digests.json").read_text())["pipeline"]
    assert Pipeline.read(past / "full.varlen.json").digest == digest
    file = tmp_path / "by-hand.varlen.json"
    file.write_text((past / "by-hand.varlen.json").read_text())
    with pytest.raises(PipelineError, match=r"degrees: write \(-9, 9\) for up to 9 either way, \(9, 9\) for exactly 9"):
        Pipeline.read(file)
    told = varlen("pipeline", "upgrade", file).stdout.splitlines()
    assert told == ["rotate: degrees: 9 → [9, 9]", "blur: sigma_px: 0.8 → [0.8, 0.8]", f"{file}: upgraded, {digest}"]
    assert Pipeline.read(file).digest == digest
    assert varlen("pipeline", "upgrade", file).stdout == f"{file}: nothing to change, {digest}\n"
    file.write_text('{"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": 900}]}')
    assert refused("pipeline", "upgrade", file).endswith("steps[0].degrees: 900 is outside -180 … 180 degrees")
    assert "[900" not in file.read_text()


def test_variants_are_those_of_0_1(past: Path, tmp_path: Path) -> None:
    """The same order makes the same edition today: the output digest differs by the version's name alone."""
    dataset, pipeline = read_dataset(past / "dataset"), Pipeline.read(past / "full.varlen.json")
    made = export(dataset, pipeline, tmp_path / "again", ExportSpec(variants=1, format="coco", image="jpeg", quality=80), accept_loss=("all",))
    pixels = {row["file"]: row["pixel_digest"] for row in read_rows(past / "editions" / "coco")}
    assert {row["file"]: row["pixel_digest"] for row in read_rows(tmp_path / "again")} == pixels
    assert (made["output_digest"] == read_record(past / "editions" / "coco")["output_digest"]) == (made["varlen"] == "0.1.0")
    assert Renderer(dataset, pipeline).pipeline.digest == read_record(past / "editions" / "coco")["pipeline_digest"]
