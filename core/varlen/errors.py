"""Every error Varlen raises on purpose, as one family tree.

    VarlenError
    ├── PipelineError     a pipeline file that can't be used; carries all its problems
    ├── DatasetError      a dataset that can't be read: file, place, what was expected
    │   ├── NeedsAnswer   a dataset that leaves a question open which an option answers
    │   └── ImageError    one picture that can't be decoded
    │       └── LevelsUnclear  … until a rule says what its levels mean
    ├── RenderError       a step that can't be carried out on a given picture
    ├── ArrayError        an array, or labels given with it, that can't be right
    ├── StepFileError     a file of steps from outside that can't be used
    ├── EvidenceError     pictures or results that can't be compared: too few, or of the wrong kind
    ├── RemoteError       a server elsewhere that refuses or does not answer
    └── EditionError      an export that can't be written, resumed or verified

The message of each is one line (``PipelineError``: one line a problem), ready to be
shown to the user as it stands.
"""

from __future__ import annotations

#: What a damaged file may bring about in code that reads it, beyond the errors below.
DAMAGE = (ArithmeticError, AttributeError, LookupError, MemoryError, OSError, RecursionError, RuntimeError, TypeError, ValueError)


class VarlenError(Exception):
    """Something the user can mend; the message says what and where."""


class PipelineError(VarlenError):
    """A pipeline that can't be used.

    ``problems`` holds every problem found, each as ``path: what is wrong``.
    """

    def __init__(self, problems: list[str], source: str = "") -> None:
        self.problems = problems
        self.source = source
        prefix = f"{source}: " if source else ""
        super().__init__("\n".join(prefix + problem for problem in problems))


class DatasetError(VarlenError):
    """A dataset that can't be read; names the file and the place in it."""


class ReadProblems:
    """What is wrong with a dataset that is being read: raised at once, or noted so that reading continues without it."""

    def __init__(self, strict: bool = True) -> None:
        self.strict = strict
        self.noted: list[tuple[str, str]] = []
        self.remarked: list[tuple[str, str]] = []

    def note(self, kind: str, message: str) -> None:
        """`kind`: missing-file, unknown-class or bad-label. Raises `DatasetError` when strict."""
        if self.strict:
            raise DatasetError(message)
        self.noted.append((kind, message))

    def remark(self, kind: str, message: str) -> None:
        """What was read in a way that is to be said, though nothing is wrong: never raised."""
        self.remarked.append((kind, message))


class ImageError(DatasetError):
    """A picture that can't be decoded; names the file."""


class NeedsAnswer(DatasetError):
    """A dataset that can't be read until a question is answered; `option` is the option that answers it."""

    def __init__(self, option: str, message: str) -> None:
        self.option = option
        super().__init__(message)


class LevelsUnclear(ImageError):
    """A picture whose levels mean nothing in 8 bits until a rule says what is black and what is white."""


class RenderError(VarlenError):
    """A step that can't be carried out on this picture; names the step."""


class ArrayError(VarlenError):
    """An array, or labels given with it, that can't be right; says what to write instead."""


class StepFileError(VarlenError):
    """A file of steps from outside that can't be used; names the file."""


class EditionError(VarlenError):
    """An edition that can't be written, resumed or verified."""


class EvidenceError(VarlenError):
    """Pictures, pipelines or scores that can't be compared, with the reason; or an experiment that can't be run."""


class RemoteError(VarlenError):
    """A server that refuses, or does not answer. passing: whether it may be better a moment later."""

    def __init__(self, message: str, passing: bool = False) -> None:
        self.passing = passing
        super().__init__(message)
