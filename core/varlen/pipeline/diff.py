"""What differs between two pipelines, step by step, in words."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any, Literal

Kind = Literal["added", "removed", "moved", "changed", "pipeline"]


@dataclass(slots=True)
class Difference:
    """One step that differs, or the pipeline's head. lines: what changed of it, one value a line."""

    kind: Kind
    step: str
    name: str
    lines: list[str] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[Difference]:
    """From one pipeline to another, both in canonical form; steps are known by their ids."""
    found: list[Difference] = []
    head = [_said(name, before.get(name), after.get(name)) for name in ("name", "seed", "draw_per") if before.get(name) != after.get(name)]
    rules, new_rules = before.get("labels", {}), after.get("labels", {})
    head += [_said(f"labels.{name}", rules.get(name), new_rules.get(name)) for name in new_rules if rules.get(name) != new_rules.get(name)]
    if head:
        found.append(Difference("pipeline", "", "pipeline", head))
    old, new = ({step["id"]: step for step in document["steps"]} for document in (before, after))
    stayed = [step for step in old if step in new]
    order = [step for step in new if step in old]
    for step in old:
        if step not in new:
            found.append(Difference("removed", step, old[step]["step"]))
    for step, values in new.items():
        if step not in old:
            found.append(
                Difference("added", step, values["step"], [f"{name} {_short(value)}" for name, value in values.items() if name not in _SAID])
            )
            continue
        lines = [_said(name, old[step].get(name), value) for name, value in values.items() if old[step].get(name) != value]
        if lines:
            found.append(Difference("changed", step, values["step"], lines))
    moved = [step for step, other in zip(stayed, order, strict=True) if step != other]
    if moved:
        found.append(Difference("moved", "", "order", [" → ".join(order)]))
    return found


_SAID = ("id", "step", "enabled", "scope", "within")


def _said(name: str, before: Any, after: Any) -> str:
    return f"{name} {_short(before)} → {_short(after)}"


def _short(value: Any) -> str:
    if isinstance(value, list):
        if value and isinstance(value[0], dict):
            return f"{len(value)} branches"
        return f"[{', '.join(map(_short, value))}]"
    if isinstance(value, float):
        return f"{value:g}"
    return "none" if value is None else str(value)
