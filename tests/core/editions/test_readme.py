"""The card of an edition says what it holds, how it was made, and what was left out."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.readme import edition_readme
from varlen.editions.record import read_record

from tests.conftest import make_pipeline
from tests.core.scenes import scene

STEPS = [
    {"step": "flip", "probability": 0.5},
    {"step": "rotate", "degrees": [-5, 5]},
    {"step": "blur", "enabled": False},
    {"step": "resize", "width_px": 50, "height_px": 40, "scope": "every"},
]


def card(tmp_path: Path, extra: dict[str, Any] | None = None, **more: Any) -> str:
    dataset = scene({"a": [{"box": [10, 10, 50, 50]}], "b": [{"box": [10, 10, 50, 50], "class": 1}, {"box": [20, 20, 60, 60]}]})
    dataset.extra = extra or {}
    export(dataset, make_pipeline(*STEPS, name="Dusk", labels={"keep_share": 0}), tmp_path / "out", ExportSpec(variants=2), accept_loss="all")
    return edition_readme({**read_record(tmp_path / "out"), **more}, dataset)  # type: ignore[typeddict-item]


def test_what_it_holds_and_how_it_was_made(tmp_path: Path) -> None:
    text = card(tmp_path)
    record = read_record(tmp_path / "out")
    assert (tmp_path / "out" / "README.md").read_text() == text
    assert text.startswith("# scene, Dusk\n\n6 images made by Varlen ")
    assert "“scene”: 2 variants of every training image and the original. Other splits hold each image once." in text
    assert "| split | images | objects | ash veil | copper hook |\n| --- | --- | --- | --- | --- |\n| train | 6 | 9 | 6 | 3 |" in text
    assert "- **flip**, in 50% of the variants: Mirror the picture" in text
    assert "- **rotate**: Turn the picture" in text
    assert "degrees [-5.0, 5.0], frame keep" in text
    assert "- **resize**; every split: " in text
    assert "blur" not in text
    for digest in (record["dataset_digest"], record["pipeline_digest"], record["output_digest"]):
        assert digest in text
    assert "## Rights" not in text
    assert "## Left out" not in text


def test_rights_and_what_was_left_out(tmp_path: Path) -> None:
    licences = [{"name": "CC BY 4.0"}, {"url": "https://example.org/licence"}, {}, "odd"]
    gone = [{"source": f"{n}.png", "variant": n, "reason": "damaged"} for n in range(53)]
    text = card(tmp_path, {"coco": {"licenses": licences}}, left_out=gone, originals=False, split_variants={"test": 2})
    assert "The source names these licences: CC BY 4.0, https://example.org/licence." in text
    assert "- 0.png, variant 0: damaged\n- 1.png" in text
    assert "- 49.png, variant 49: damaged\n- and 3 more, see `edition.json`" in text
    assert "50.png" not in text
    assert "2 variants of every training image. Other splits hold each image once; test each image and 2 variants of it" in text
