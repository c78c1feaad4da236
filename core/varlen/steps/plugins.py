"""Steps from outside this package.

VARLEN_STEPS names Python files, separated like the folders in PATH. Every class in them that
is a step and has a name of its own joins the catalogue; see docs/own-steps.md.
"""

from __future__ import annotations

import hashlib
import importlib.util
import inspect
import os
import sys
from pathlib import Path

from varlen.errors import StepFileError
from varlen.steps.base import Step

VARIABLE = "VARLEN_STEPS"


def load_step_files(catalogue: dict[str, type[Step]]) -> None:
    """Add the steps of all files to `catalogue`, each with the SHA-256 of its file.

    Raises `StepFileError` naming the file that can't be used.
    """
    for path in filter(None, os.environ.get(VARIABLE, "").split(os.pathsep)):
        found = _steps_of(Path(path))
        if not found:
            raise StepFileError(f"{path}: there is no step in it (a class derived from varlen.steps.base.Step with a `step` field, or a function "
                                "under @varlen.step)")  # fmt: skip
        for cls in found:
            if catalogue.get(cls.name(), cls) is not cls:
                raise StepFileError(f"{path}: the step name {cls.name()!r} is taken")
            catalogue[cls.name()] = cls
            cls.source_digest = hashlib.sha256(Path(path).read_bytes()).hexdigest()


def _steps_of(path: Path) -> list[type[Step]]:
    name = "varlen_outside_" + hashlib.sha256(str(path.absolute()).encode()).hexdigest()[:12]
    spec = importlib.util.spec_from_file_location(name, path)
    if spec is None or spec.loader is None or not path.is_file():
        raise StepFileError(f"{path}: not a Python file")
    module = importlib.util.module_from_spec(spec)
    # Classes must be found again by name in worker processes.
    sys.modules[name] = module
    try:
        spec.loader.exec_module(module)
    except Exception as error:  # whatever the file does wrong is its author's to mend
        raise StepFileError(f"{path}: {type(error).__name__}: {error}") from error
    steps = [value for value in vars(module).values() if inspect.isclass(value) and issubclass(value, Step) and value.__module__ == name]
    return [cls for cls in steps if isinstance(cls.model_fields["step"].default, str)]
