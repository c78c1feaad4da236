"""One of several ways to go on."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, SerializeAsAny, field_validator

from varlen.model.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Step

if TYPE_CHECKING:
    from varlen.draws import Stream

MOST = 16


class Branch(BaseModel):
    """Steps, and how often they are taken compared with the other branches.

    >>> import varlen as v
    >>> v.Pipeline([v.Junction(branches=[v.Branch(weight=2, steps=[v.Blur()]), v.Branch(steps=[])])])["blur"]
    Blur(id='blur')
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    weight: float = Field(1.0, gt=0, le=1000, description="how often this branch is taken, compared with the others")
    steps: Annotated[tuple[SerializeAsAny[Step], ...], BeforeValidator(lambda v: tuple(v) if isinstance(v, list) else v)] = Field(
        (), description="steps of this branch, none for a way straight through"
    )


class Junction(Step):
    """Take exactly one of several branches of steps, drawn by their weights."""

    kind: ClassVar[str] = "junction"
    purpose: ClassVar[str] = "combine"

    step: Literal["junction"] = "junction"
    branches: Annotated[tuple[Branch, ...], BeforeValidator(lambda v: tuple(v) if isinstance(v, list) else v)] = Field(
        (Branch(weight=1.0, steps=()), Branch(weight=1.0, steps=())), description="one of these is taken",
        json_schema_extra={"control": "branches", "unit": ""},
    )  # fmt: skip
    shown: ClassVar[tuple[dict[str, Any], ...]] = ()

    @field_validator("branches", mode="before")
    @classmethod
    def _branches_hold_steps(cls, value: Any) -> Any:
        for each in value if isinstance(value, (list, tuple)) else ():
            if isinstance(each, Step) or (isinstance(each, (list, tuple)) and all(isinstance(step, Step) for step in each)):
                steps = [each] if isinstance(each, Step) else each
                raise ValueError(f"a branch is Branch(weight=1, steps=[{', '.join(f'{type(step).__name__}(…)' for step in steps)}])")
        return value

    @field_validator("branches", mode="after")
    @classmethod
    def _some(cls, branches: tuple[Branch, ...]) -> tuple[Branch, ...]:
        if not 1 <= len(branches) <= MOST:
            raise ValueError(f"{len(branches)} branches; there must be 1 … {MOST}")
        return branches

    def draws_differ(self) -> bool:
        """Which branch is taken; what its steps draw they say themselves."""
        return len(self.branches) > 1

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        place = stream.unit() * sum(branch.weight for branch in self.branches)
        for number, branch in enumerate(self.branches):
            place -= branch.weight
            if place < 0.0:
                return {"branch": number}
        return {"branch": len(self.branches) - 1}

    def effect(self, drawn: Drawn, size: Size) -> None:
        """None of its own: the plan continues with the steps of the branch."""
        return None
