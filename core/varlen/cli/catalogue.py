"""Commands about steps and pipeline files: steps, pipeline check, upgrade and show."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.terminal import JsonOption, PipelineArgument
from varlen.errors import VarlenError

if TYPE_CHECKING:
    pass


catalogue = typer.Typer(rich_markup_mode=None)
pipeline_app = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Check a pipeline file or print its full form.")


@catalogue.command()
def steps(name: Annotated[Optional[str], typer.Argument(metavar="[NAME]")] = None, as_json: JsonOption = False) -> None:  # noqa: UP045
    """The catalogue of steps with units, ranges and defaults."""
    catalogue = _catalogue()
    if name is not None and name not in catalogue:
        from varlen.steps.problems import nearest_step

        raise VarlenError(f"there is no step {name!r}{nearest_step(name, catalogue)}")
    chosen = [catalogue[name]] if name else list(catalogue.values())
    if as_json:
        print(json.dumps(chosen, indent=1, ensure_ascii=False))
        return
    for about in chosen:
        print(f"{about['step']}  ({about['purpose']}) {about['meaning']}")
        for parameter in about["parameters"]:
            limits = f" {parameter['low']:g} … {parameter['high']:g}" if "low" in parameter else ""
            options = " · ".join(str(option) for option in parameter.get("options", ()))
            unit = parameter.get("unit", "")
            print(f"    {parameter['name']:<18} default {json.dumps(parameter['default']):<16} {options or (unit + limits).strip()}")
            print(f"    {'':<18} {parameter['meaning']}")
        print()


def _catalogue() -> dict[str, dict[str, Any]]:
    """Every step with its parameters and schema, by name. Without steps from outside it is read: building it takes ten times as long."""
    if not os.environ.get("VARLEN_STEPS"):
        described: list[dict[str, Any]] = json.loads((Path(__file__).parent.parent / "steps" / "catalogue.json").read_text("utf-8"))
        return {about["step"]: about for about in described}
    from varlen.steps import CATALOGUE, describe

    return {name: describe(cls, schema=True) for name, cls in CATALOGUE.items()}


@pipeline_app.command()
def check(file: PipelineArgument) -> None:
    """Say whether a pipeline file can be used; if not, list all its problems."""
    from varlen.pipeline.document import read

    pipeline = read(file)
    print(f"{file}: good, {len(pipeline.steps)} steps, {pipeline.digest}")


@pipeline_app.command()
def upgrade(file: Annotated[Path, typer.Argument(help="a pipeline file written by hand for version 0.1")]) -> None:
    """Rewrite a file for version 1.0: a single number x for a range becomes [x, x], which is what it meant."""
    from varlen.atomic_files import write_whole
    from varlen.pipeline.document import Pipeline, plain_file
    from varlen.pipeline.reading import upgraded

    data, changes = upgraded(plain_file(file))
    pipeline = Pipeline.from_json(data, str(file))
    for change in changes:
        print(change)
    if changes:
        write_whole(file, json.dumps(data, indent=2, ensure_ascii=False).encode() + b"\n")
    print(f"{file}: {'upgraded' if changes else 'nothing to change'}, {pipeline.digest}")


@pipeline_app.command()
def show(file: PipelineArgument) -> None:
    """Print a pipeline with every default spelled out, and its digest on stderr."""
    from varlen.pipeline.document import read

    pipeline = read(file)
    print(json.dumps(pipeline.to_json(), indent=2, ensure_ascii=False))
    print(pipeline.digest, file=sys.stderr)
