"""The widest range of a parameter that loses no more than a share of the objects."""

from __future__ import annotations

import math
from typing import Any

from varlen.datasets.dataset import Dataset
from varlen.errors import PipelineError
from varlen.forecasts.label_forecast import DRAWS, count_draws
from varlen.pipeline.document import Pipeline, from_json
from varlen.render.renderer import Renderer


def largest_range(dataset: Dataset, pipeline: Pipeline, parameter: str, lose_at_most: float, draws: int = DRAWS) -> dict[str, Any]:
    """The largest symmetric range of `parameter` ("step id.name") that loses no more than a share of the objects.

    Ranges of factors are symmetric as [1/f, f], others as [−r, r], or [0, r] where negative
    values make no sense. The same draws are used for every range tried, only wider or
    narrower, so the search does not chase chance. `ends` of the answer is the range found;
    the numbers are rounded to the narrower side.
    """
    identifier, _, name = parameter.partition(".")
    step = next((step for step in pipeline.all_steps() if step.id == identifier), None)
    if step is None:
        raise PipelineError([f"there is no step with the id {identifier!r}; known are {', '.join(step.id for step in pipeline.all_steps())}"])
    model = type(step).model_fields.get(name)
    facts = model.json_schema_extra if model is not None and isinstance(model.json_schema_extra, dict) else {}
    if facts.get("control") != "span":
        spans = [name for name, each in type(step).model_fields.items() if (each.json_schema_extra or {}).get("control") == "span"]  # type: ignore[union-attr]
        raise PipelineError([f"{parameter}: not a range of the step {step.step!r}; its ranges are {', '.join(spans) or 'none'}"])
    low, high = float(facts["low"]), float(facts["high"])  # type: ignore[arg-type]
    log = bool(facts.get("log"))
    most = math.log(min(high, 1.0 / low)) if log else min(high, -low) if low < 0.0 else high

    def ends(reach: float) -> tuple[float, float]:
        if log:
            return max(low, math.ceil(math.exp(-reach) * 1e4) / 1e4), min(high, math.floor(math.exp(reach) * 1e4) / 1e4)
        reach = math.floor(reach * 1e4) / 1e4
        return (-reach if low < 0.0 else max(low, 0.0)), reach

    def loss(reach: float) -> float:
        changed = from_json(_with_value(pipeline.to_json(), identifier, name, list(ends(reach))))
        return count_draws(Renderer(dataset, changed), draws).lost_share

    base = loss(0.0)
    narrow, wide = 0.0, most
    answer = {"parameter": parameter, "lose_at_most": lose_at_most, "draws": draws, "lost_without": round(base, 6)}
    if base > lose_at_most:
        return {**answer, "ends": None, "lost_share": round(base, 6)}
    if (whole := loss(most)) <= lose_at_most:
        return {**answer, "ends": list(ends(most)), "lost_share": round(whole, 6)}
    found = base
    for _ in range(14):
        middle = (narrow + wide) / 2
        share = loss(middle)
        if share <= lose_at_most:
            narrow, found = middle, share
        else:
            wide = middle
    return {**answer, "ends": list(ends(narrow)), "lost_share": round(found, 6)}


def _with_value(document: dict[str, Any], identifier: str, name: str, value: Any) -> dict[str, Any]:
    """The document with one parameter of one step changed, wherever the step is."""

    def changed(steps: list[dict[str, Any]]) -> list[dict[str, Any]]:
        made = []
        for step in steps:
            step = {**step, name: value} if step["id"] == identifier else dict(step)
            if "branches" in step:
                step["branches"] = [{**branch, "steps": changed(branch["steps"])} for branch in step["branches"]]
            made.append(step)
        return made

    return {**document, "steps": changed(document["steps"])}
