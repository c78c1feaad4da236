"""The `varlen` commands about evidence: matching a field, probing pipelines, comparing scores."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.reading import ReadingOptions, reads_dataset
from varlen.cli.terminal import DatasetArgument, JsonOption, print_table, progress_bar, say, write_file

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

    def on_progress(what: str, done: int) -> None:
        nonlocal said
        if what != said:
            said = what
            say(f"{_DOING[what]} …")

    found = find_match(ours, theirs, given, workers=workers, progress=on_progress)
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


@evidence.command()
@reads_dataset
def probe(dataset: DatasetArgument, reading: ReadingOptions,
          pipelines: Annotated[list[Path], typer.Option("-p", "--pipeline", metavar="PIPELINE", help="once for each to compare with none")],
          seeds: Annotated[int, typer.Option(min=1, max=100, help="runs of each")] = 3,
          minutes: Annotated[Optional[float], typer.Option(min=0.2, help="about how long all may take")] = None,  # noqa: UP045
          task: Annotated[str, typer.Option(help="classification, objects, pixels or keypoints; else by what the dataset has")] = "",
          out: Annotated[Optional[Path], typer.Option("-o", "--out", metavar="DIR", help="keep all runs there, to resume a probe")] = None,  # noqa: UP045
          workers: Annotated[int, typer.Option(min=1, max=64)] = min(os.cpu_count() or 1, 2),
          as_json: JsonOption = False) -> None:  # fmt: skip
    """Does it help? A small network trained with each pipeline and with none, judged on untouched validation pictures."""
    from varlen.evidence.conditions import CONDITIONS, pipelines_of
    from varlen.evidence.probe import probe as run_probe
    from varlen.pipeline.document import read

    chosen = [read(path) for path in pipelines]
    found = reading.read(dataset)
    with progress_bar("probing", 1000) as done:
        result = run_probe(found, chosen, seeds=seeds, minutes=minutes, task=task, out=out, workers=workers,
                           progress=lambda share, left: done(round(share * 1000)))  # fmt: skip
    if out is not None:
        for condition in CONDITIONS:
            for pipeline in pipelines_of(condition):
                (out / "conditions").mkdir(exist_ok=True)
                pipeline.save(out / "conditions" / f"{pipeline.name.replace(' ', '-')}.varlen.json")
    if as_json:
        print(json.dumps(result.to_json(), ensure_ascii=False))
        return
    _print_probe(result.to_json())


def _print_probe(found: dict[str, Any]) -> None:
    print(f"{found['metric']} on {found['split']}, {found['seeds']} seeds, {found['steps']} steps of training, {found['seconds']:.0f} s")
    rows = [["pipeline", "mean", "spread", "difference", "95 % interval", ""]]
    for row in found["results"]:
        more = ["", "", ""]
        if "verdict" in row:
            more = [f"{row['difference']:+.3f}", f"{row['interval'][0]:+.3f} … {row['interval'][1]:+.3f}", row["verdict"]]
        rows.append([row["pipeline"], f"{row['mean']:.3f}", f"{row['spread']:.3f}", *more])
    for line in found["headline"]:
        print(line)
    print_table(rows)
    conditions = list(next(iter(found["robustness"].values())))
    print_table([["under", *conditions],
                 *[[name, *(f"{values[each]:.3f}" for each in conditions)] for name, values in found["robustness"].items()]])  # fmt: skip
    for row in found["results"]:
        if "to_tell" in row:
            print(f"{row['pipeline']}: no difference shown; what would tell: {row['to_tell']}")
    print(found["proxy"])
    for line in found["notes"]:
        say(f"note: {line}")


@evidence.command()
def scores(folders: Annotated[list[Path], typer.Argument(metavar="DIR…", help="editions, or folders of editions")],
           baseline: Annotated[str, typer.Option(metavar="NAME", help="the edition or pipeline others are compared with")] = "",
           as_csv: Annotated[bool, typer.Option("--csv", help="as CSV")] = False,
           as_json: JsonOption = False) -> None:  # fmt: skip
    """Scores of several editions: means over runs, and differences to a baseline with their intervals."""
    from varlen.evidence.paired import compare_scores, read_editions, to_csv

    rows = compare_scores(read_editions(folders), baseline)
    if as_json:
        print(json.dumps(rows, ensure_ascii=False))
    elif as_csv:
        print(to_csv(rows), end="")
    else:
        print_table([["edition", "score", "split", "n", "mean", "spread", "difference", "95 % interval", ""], *map(_score_row, rows)])


def _score_row(row: dict[str, Any]) -> list[str]:
    cells = [row["edition"], row["score"], row["split"], str(row["n"]), f"{row['mean']:.4g}", f"{row['spread']:.2g}"]
    if row["difference"] is None:
        return [*cells, "", "", ""]
    interval = "" if row["difference_low"] == row["difference_high"] else f"{row['difference_low']:+.3g} … {row['difference_high']:+.3g}"
    return [*cells, f"{row['difference']:+.3g}", interval, row["verdict"]]
