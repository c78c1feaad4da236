"""The `varlen` commands about evidence: matching a field, probing pipelines, comparing scores."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from varlen.cli.reading import ReadingOptions, reads_dataset
from varlen.cli.terminal import DatasetArgument, JsonOption, print_table, say, write_file

if TYPE_CHECKING:
    from varlen.datasets.dataset import Dataset
    from varlen.evidence.match import Match

evidence = typer.Typer(rich_markup_mode=None)
#: What a match does, in words for its progress.
_DOING = {"field": "measuring the field", "training": "measuring training pictures", "variants": "measuring variants",
          "suggestion": "trying ranges", "result": "measuring the result"}  # fmt: skip


@evidence.command()
@reads_dataset
def match(dataset: DatasetArgument, reading: ReadingOptions,
          field: Annotated[Path, typer.Argument(metavar="FIELD", help="pictures from where the model will work")],
          pipeline: Annotated[Optional[Path], typer.Argument(metavar="[PIPELINE]", help="whose variants are compared")] = None,  # noqa: UP045
          out: Annotated[Optional[Path], typer.Option("-o", "--out", metavar="SUGGESTED", help="write the suggested pipeline")] = None,  # noqa: UP045
          workers: Annotated[int, typer.Option(min=1, max=256)] = os.cpu_count() or 1,
          as_json: JsonOption = False) -> None:  # fmt: skip
    """How training pictures and variants lie against pictures of the field, and which steps would cover it."""
    from varlen.evidence.match import match as find_match
    from varlen.pipeline.document import read

    given = None if pipeline is None else read(pipeline)
    ours, theirs = reading.read(dataset), read_field(field)
    said = ""

    def told(what: str, done: int) -> None:
        nonlocal said
        if what != said:
            said = what
            say(f"{_DOING[what]} …")

    found = find_match(ours, theirs, given, workers=workers, progress=told)
    if out is not None:
        write_file(out, json.dumps(found.pipeline.to_json(), indent=2, ensure_ascii=False).encode() + b"\n")
    if as_json:
        print(json.dumps(found.to_json(), ensure_ascii=False))
        return
    _print_match(found)


def read_field(path: Path) -> Dataset:
    """The field's pictures, whatever labels they have; what can't be read is said and left out. Raises `VarlenError`."""
    return ReadingOptions().read(path, lenient=True)


def _print_match(found: Match) -> None:
    plain = found.to_json()
    rows = [["condition", "unit", "training", "variants", "field", "covered", "with suggestion"]]
    for each in plain["conditions"]:
        ranges = [_range(each[name]) for name in ("training", "variants_before", "field")]
        rows.append([each["name"], each["unit"], *ranges, f"{each['covered_before']:.0%}", f"{each['covered_after']:.0%}"])
    print_table(rows)
    before, after = plain["auc_before_interval"], plain["auc_after_interval"]
    print(f"a classifier tells field from variants: AUC {found.auc_before:.2f} ({before[0]:.2f}-{before[1]:.2f}); 0.5 would be not at all")
    if len(found.suggested):
        print(f"with the suggested steps: AUC {found.auc_after:.2f} ({after[0]:.2f}-{after[1]:.2f})")
        print()
        for step, reasons in _by_step(plain).items():
            print(f"{step}: {'; '.join(reasons)}")
    else:
        print("nothing is suggested: " + ("no step would bring them nearer" if plain["unreached"] else "field and variants are alike"))
    for line in plain["unreached"]:
        print(f"not reached: {line}")
    for line in plain["notes"]:
        say(f"note: {line}")


def _range(span: list[float]) -> str:
    return f"{span[1]:.3g} ({span[0]:.3g}-{span[2]:.3g})"


def _by_step(plain: dict[str, list[dict[str, str]]]) -> dict[str, list[str]]:
    """For each suggested step, its ranges and why."""
    found: dict[str, list[str]] = {}
    steps = {step["id"]: step for step in plain["suggested"]["steps"]}  # type: ignore[call-overload]
    for reason in plain["evidence"]:
        low, high = steps[reason["step"]][reason["parameter"]]
        found.setdefault(steps[reason["step"]]["step"], []).append(f"{reason['parameter']} {low:g} to {high:g} ({reason['says']})")
    return found
