"""The card of an edition: a README in plain words for its recipient."""

from __future__ import annotations

from typing import Any

from varlen.datasets.convert import in_words
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS
from varlen.editions.record import EditionRecord
from varlen.steps import describe
from varlen.steps.base import CATALOGUE


def edition_readme(record: EditionRecord, dataset: Dataset) -> str:
    """Markdown: what the edition holds, from what and how it was made, how to read it and how to check it."""
    counts = record["counts"]
    variants = _variants(record)
    parts = [
        f"# {record['dataset']}, {record['pipeline']['name']}",
        f"{sum(split['images'] for split in counts.values())} images made by Varlen {record['varlen']} from the dataset "
        f"“{record['dataset']}”: {variants}. {_other_splits(record)}",
        _table(["split", "images", "objects", *dataset.classes],
               [[split, found["images"], found["objects"], *found["classes"].values()] for split, found in counts.items()]),
        "## What was done to the training images",
        *(_step(step) for step in record["pipeline"]["steps"] if step["enabled"]),
        "## Reading it",
        WRITERS[record["format"]].layout,
        *_numbers(record),
        "`rows.jsonl` records for every image what it was made from and what was drawn for it; `edition.json` does so for the whole edition.",
        "## What it was made from",
        _table(["what", "digest"], [["dataset", record["dataset_digest"]], ["pipeline", record["pipeline_digest"]],
                                    ["seed", record["seed"]], ["this edition", record["output_digest"]]]),
        *_rights(dataset),
        *_lost(record),
        *_left_out(record),
        "## Checking it",
        "`varlen verify FOLDER` compares every file with its record; `varlen recreate FOLDER ROW --dataset SOURCE` makes one image again.",
    ]  # fmt: skip
    return "\n\n".join(part for part in parts if part) + "\n"


def _numbers(record: EditionRecord) -> list[str]:
    """What levels became in arrays."""
    found = record.get("normalized")
    if not found:
        return []
    mean, deviation = (", ".join(f"{value:.6g}" for value in found[name]) for name in ("mean", "deviation"))
    return [f"Levels of 0-255 were normalised: minus the mean ({mean}), divided by the deviation ({deviation}), for red, green and blue."]


def _variants(record: EditionRecord) -> str:
    """How many variants training images got."""
    originals = " and the original" if record["originals"] else ""
    if total := record.get("total"):
        balanced = ", rare classes more often" if record.get("balance") else ""
        return f"exactly {total} training images, variants{originals} shared out evenly{balanced}"
    if count := record.get("per_class"):
        return f"at least {count} labels of each class among the training images, rare classes by more variants"
    mean = "on average " if record.get("balance") else ""
    return f"{mean}{record['variants']} variants of every training image{originals}" + (", rare classes more often" if mean else "")


def _lost(record: EditionRecord) -> list[str]:
    """What the format could not hold."""
    lines = [f"- all {in_words(loss)}" for loss in record.get("lost", [])]
    lines += [f"- {line}" for line in record.get("reduced", [])]
    return ["## What this format does not hold of the source", "\n".join(lines)] if lines else []


def _other_splits(record: EditionRecord) -> str:
    more = record.get("split_variants", {})
    said = "; ".join(f"{split} each image and {count} variants of it, through the steps for every split" for split, count in more.items())
    return f"Other splits hold each image once; {said}." if said else "Other splits hold each image once."


def _step(step: dict[str, Any]) -> str:
    meaning = describe(CATALOGUE[step["step"]])["meaning"]
    values = ", ".join(f"{name} {value}" for name, value in step.items() if name not in ("id", "step", "enabled", "probability", "scope", "branches"))
    chance = "" if step["probability"] == 1 else f", in {step['probability']:.0%} of the variants"
    every = "; every split" if step.get("scope") == "every" else ""
    return f"- **{step['step'].replace('_', ' ')}**{chance}{every}: {meaning}\n  ({values})"


def _rights(dataset: Dataset) -> list[str]:
    """The licences that the source names."""
    licences = [entry.get("name") or entry.get("url") for entry in dataset.extra.get("coco", {}).get("licenses") or () if isinstance(entry, dict)]
    named = [str(name) for name in licences if name]
    return ["## Rights", "The source names these licences: " + ", ".join(named) + "."] if named else []


def _left_out(record: EditionRecord) -> list[str]:
    found = record.get("left_out", [])
    if not found:
        return []
    lines = [f"- {each['source']}, variant {each['variant']}: {each['reason']}" for each in found[:50]]
    more = [f"- and {len(found) - 50} more, see `edition.json`"] if len(found) > 50 else []
    return ["## Left out", "\n".join(lines + more)]


def _table(head: list[Any], rows: list[list[Any]]) -> str:
    lines = [head, ["---"] * len(head), *rows]
    return "\n".join("| " + " | ".join(str(cell).replace("|", "\\|") for cell in line) + " |" for line in lines)
