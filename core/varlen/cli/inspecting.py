"""`varlen inspect`: what a dataset holds, what looks wrong in it, and a draft of how files are read that nothing reads."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.reading import ReadingOptions, reads_dataset
from varlen.cli.terminal import DatasetArgument, JsonOption, counter, print_table, printable, progress_bar, say
from varlen.errors import ReadProblems, VarlenError

if TYPE_CHECKING:
    from varlen.datasets.dataset import Dataset

#: Examples of a finding that are printed; all are in its JSON.
SHOWN = 5

inspecting = typer.Typer(rich_markup_mode=None)


@inspecting.command()
@reads_dataset
def inspect(dataset: DatasetArgument, reading: ReadingOptions,
            findings: Annotated[bool, typer.Option("--findings", help="look for what is wrong instead: files, labels, classes, duplicates")] = False,
            fail_on: Annotated[Optional[str], typer.Option("--fail-on", metavar="SEVERITY",  # noqa: UP045
                               help="exit with status 1 on findings of error, warning or note, or worse")] = None,
            draft_reading: Annotated[bool, typer.Option("--draft-reading",
                                     help="print a draft of a recipe for label files that nothing reads")] = False,
            as_json: JsonOption = False) -> None:  # fmt: skip
    """Sizes, classes, splits and channel statistics of a dataset; or what looks wrong in it."""
    from varlen.datasets.summary import summarise

    if draft_reading:
        _draft(dataset, reading)
        return
    if findings or fail_on is not None:
        _findings(dataset, reading, fail_on, as_json)
        return
    problems = ReadProblems(strict=False)
    found = reading.read(dataset, lenient=True, problems=problems)
    said = len(problems.noted)
    with progress_bar("reading", len(found.entries)) as done:
        summary = summarise(found, problems, counter(done))
    for _, message in problems.noted[said:]:
        say(f"left out: {message}")
    if as_json:
        print(json.dumps(summary, indent=1, ensure_ascii=False))
    else:
        _print_summary(summary, found)
    if found.account is not None and found.account.question:
        say(f"question: {found.account.question}")
    for question in found.questions:
        say(f"question: {question}")
    if problems.noted:
        sys.exit(1)


def _print_summary(summary: dict[str, Any], found: Dataset) -> None:
    print(f"format         {summary['format']} ({', '.join(summary['why']) or 'as it was named'})")
    print(f"files          {found.account}\n" if found.account is not None else "")
    print_table([["split", "images", "objects"], *[[split, n["images"], n["objects"]] for split, n in summary["splits"].items()]])
    splits = list(summary["splits"])
    print_table([["class", *splits], *[[name, *[counts[split] for split in splits]] for name, counts in summary["classes"].items()]])
    print("image sizes    " + ", ".join(f"{size} px: {count}" for size, count in summary["image_sizes"].items()))
    shapes = summary["objects"]
    shown = {"polygons": "polygons", "masks": "masks", "oriented_boxes": "oriented boxes", "crowd": "crowd regions"}
    print("shapes         " + ", ".join(f"{shapes[kind]} {word}" for kind, word in shown.items()))
    pairs = ", ".join(f"{one}:{other}" for one, other in summary["mirror_pairs"]) or "none"
    print(f"keypoints      {', '.join(summary['keypoints']) or 'none'}")
    if summary["keypoints"]:
        print(f"mirror pairs   {pairs}" + (f"; without a partner: {', '.join(summary['unpaired'])}" if summary["unpaired"] else ""))
    if summary["label_maps"]:
        print(f"label maps     {', '.join(summary['label_maps'])}")
    print("channel mean   " + "  ".join(f"{value:.2f}" for value in summary["channel_mean"]) + "  (levels 0-255, training split)")
    print("channel std    " + "  ".join(f"{value:.2f}" for value in summary["channel_std"]))


def _findings(path: Path, reading: ReadingOptions, fail_on: str | None, as_json: bool) -> None:
    from varlen.datasets.findings import SEVERITIES, check_dataset
    from varlen.datasets.skeleton import mirror_pairs

    if fail_on not in (None, *SEVERITIES):
        raise VarlenError(f"--fail-on: expected {', '.join(SEVERITIES)}, not {fail_on!r}")
    problems = ReadProblems(strict=False)
    dataset = reading.look(path, problems)
    with progress_bar("looking", len(dataset.entries)) as done:
        found = check_dataset(dataset, problems, counter(done))
    if as_json:
        facts = {"format": dataset.format, "why": dataset.why, "splits_drawn": dataset.splits_drawn, "images": len(dataset.entries),
                 "mirror_pairs": mirror_pairs(dataset.skeleton)}  # fmt: skip
        print(json.dumps({**facts, "findings": [finding.to_json() for finding in found]}, indent=1, ensure_ascii=False))
    for finding in [] if as_json else found:
        print(f"{finding.severity}  {finding.kind} × {finding.count}: {finding.why}")
        for example in finding.examples[:SHOWN]:
            print(f"    {printable(example)}")
        if len(finding.examples) > SHOWN:
            print(f"    and {finding.count - SHOWN} more; --json names them")
        print(f"    → {finding.remedy}\n")
    if not found and not as_json:
        print(f"{path}: {len(dataset.entries)} images, nothing found")
    if fail_on is not None and any(SEVERITIES.index(finding.severity) <= SEVERITIES.index(fail_on) for finding in found):
        sys.exit(1)


def _draft(path: Path, reading: ReadingOptions) -> None:
    """Print a recipe for the first file that nothing reads, to be looked at and kept."""
    from varlen.datasets.formats import unread_files
    from varlen.datasets.formats.drafts import draft_of

    draft = draft_of(*unread_files(path, reading.to_options()))
    print(json.dumps(draft.recipe, indent=1, ensure_ascii=False))
    for word in draft.missing:
        say(f"{draft.file}: nothing in it looks like the {word}; say in the recipe where it stands")
    say("look it through, keep it as NAME.reading.json, and give it with --reading")
