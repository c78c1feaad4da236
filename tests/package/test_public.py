"""The public names and their signatures, pinned: a change is a decision, for the CHANGELOG. And what they say of themselves, run."""

from __future__ import annotations

import doctest
import inspect
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import varlen

from tests.docs.conftest import full_survey

PINNED = Path(__file__).with_name("public.txt")
__all__ = ["full_survey"]


def public() -> Iterator[str]:
    """A line for each public name and each public member of a class, with parameters and defaults."""
    for name in varlen.__all__:
        found = getattr(varlen, name)
        yield f"{name}{_signature(found)}"
        if isinstance(found, type) and not issubclass(found, (varlen.Step, Exception)):
            own = {member for cls in found.__mro__ if cls.__module__.startswith("varlen") for member in vars(cls)}
            for member, value in sorted(inspect.getmembers(found)):
                if not member.startswith(("_", "model_")) and member in own:
                    yield f"    .{member}{_signature(value)}"


def _signature(found: Any) -> str:
    if isinstance(found, property) or not callable(found):
        return ""
    try:
        signature = inspect.signature(found)
    except (TypeError, ValueError):
        return ""
    parameters = [each.replace(annotation=each.empty) for each in signature.parameters.values() if each.name not in ("self", "cls")]
    return re.sub(r"<function .*? at 0x[0-9a-f]+>", "…", str(signature.replace(parameters=parameters, return_annotation=signature.empty)))


def test_public_names_and_signatures_are_what_they_were() -> None:
    assert "\n".join(public()) + "\n" == PINNED.read_text(), f"meant so? then: python -m tests.package.test_public > {PINNED}"


def test_what_is_listed_is_what_there_is() -> None:
    assert sorted(varlen.__all__) == varlen.__all__ == dir(varlen)
    assert not [name for name in varlen.__all__ if name != "__version__" and not (getattr(varlen, name).__doc__ or "").strip()]
    command = [
        sys.executable,
        "-c",
        "import sys, varlen; print(sorted(name for name in sys.modules if name.split('.')[0] in ('numpy', 'numba', 'pydantic')))",
    ]
    assert subprocess.run(command, capture_output=True, text=True, check=True).stdout == "[]\n"


def documented() -> list[tuple[str, Any]]:
    """Every public thing, and public method of one, with an example."""
    found = []
    for name in varlen.__all__:
        thing = getattr(varlen, name)
        members = vars(thing).items() if isinstance(thing, type) and not issubclass(thing, Exception) else ()
        for label, each in [(name, thing), *((f"{name}.{member}", getattr(thing, member)) for member, _ in members if not member.startswith("_"))]:
            if ">>>" in (getattr(each, "__doc__", "") or ""):
                found.append((label, each))
    return found


@pytest.mark.parametrize(("name", "thing"), documented(), ids=[name for name, _ in documented()])
def test_examples_in_docstrings_run(name: str, thing: Any, full_survey: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    shutil.copytree(full_survey, tmp_path / "moths")
    finder, runner = doctest.DocTestFinder(recurse=False), doctest.DocTestRunner(optionflags=doctest.ELLIPSIS)
    for test in finder.find(thing, name, module=False, globs={}):
        assert runner.run(test).failed == 0


def test_every_public_name_has_an_example() -> None:
    """Errors are met, not made; steps have a page each; shapes of samples are told by those that make them."""
    have = {name for name, _ in documented()}
    plain = {"__version__", "Sample", "Batch", "Recreated"}
    steps = {name for name in varlen.__all__ if isinstance(getattr(varlen, name), type) and issubclass(getattr(varlen, name), varlen.Step)} - {"Step"}
    assert not {name for name in varlen.__all__ if not name.endswith("Error")} - plain - steps - have
    conventions = {f"Labels.from_{name}" for name in ("xywh", "centre", "fractions", "centre_fractions", "voc")}
    assert conventions | {"Pipeline.render", "Pipeline.render_nested", "Rendered.again", "Dataset.from_arrays", "Samples.batches"} <= have


if __name__ == "__main__":
    print("\n".join(public()))
