"""Plans of many variants at once are those of the planner, to the last bit; what is not one straight move is left to it."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.draws import Stream, units_of
from varlen.errors import RenderError
from varlen.forecasts.many_moves import moves_of
from varlen.model.geometry import Size
from varlen.model.objects import make_objects
from varlen.pipeline.document import from_json
from varlen.pipeline.plan import Resample
from varlen.render.renderer import Renderer

from tests.core.golden.dataset import golden

EDGES = st.sampled_from(["solid", "mirror", "extend"])
SPAN = st.tuples(st.floats(-40, 40), st.floats(-40, 40)).map(sorted)
#: Steps with a formula of their own, geometry without one, colors and details that stand between, and what is always left to the planner.
STEPS: st.SearchStrategy[dict[str, Any]] = st.one_of(
    st.fixed_dictionaries({"step": st.just("flip"), "direction": st.sampled_from(["horizontal", "vertical", "either", "both"])}),
    st.fixed_dictionaries(
        {"step": st.just("rotate"), "degrees": SPAN, "frame": st.sampled_from(["keep", "grow", "zoom"]), "edges": EDGES}
    ),
    st.fixed_dictionaries({"step": st.just("rotate"), "degrees": SPAN, "centre_x_px": st.integers(0, 60), "edges": EDGES}),
    st.fixed_dictionaries({"step": st.just("shear"), "x_degrees": SPAN, "y_degrees": SPAN, "edges": EDGES}),
    st.fixed_dictionaries({"step": st.just("shift"), "x_fraction": st.just([-0.2, 0.2]), "y_px": st.just([-9, 9]), "edges": EDGES}),
    st.fixed_dictionaries({"step": st.just("scale"), "factor": st.just([0.7, 1.4]), "stretch_factor": st.just([0.9, 1.1]), "edges": EDGES}),
    st.fixed_dictionaries(
        {"step": st.just("resize"), "width_px": st.integers(20, 90), "height_px": st.integers(20, 90),
         "fit": st.sampled_from(["stretch", "letterbox", "cover", "longest", "shortest"])}
    ),
    st.just({"step": "quarter_turn"}),
    st.just({"step": "crop", "mode": "random"}),
    st.just({"step": "crop", "mode": "around_object"}),
    st.just({"step": "color_jitter"}),
    st.just({"step": "gamma"}),
    st.just({"step": "blur"}),
    st.just({"step": "elastic"}),
    st.just({"step": "perspective"}),
    st.just({"step": "mosaic", "probability": 0.3}),
    st.just({"step": "cutout"}),
)  # fmt: skip


def straight(renderer: Renderer, image: str, variant: int) -> tuple[Resample, float, int] | None:
    """What the planner makes of a variant, where it is one affine move and nothing else for labels."""
    try:
        plan = renderer.plan(image, variant)
    except RenderError:
        return None
    runs = [stage for stage in plan.stages if isinstance(stage, Resample)]
    others = [stage for stage in plan.stages if type(stage).__name__ in ("Painted", "Patched")]
    if plan.base is not None or others or len(runs) != 1 or runs[0].bends or not runs[0].matrix.affine:
        return None
    return runs[0], plan.blank_share, plan.passes


@given(st.lists(st.tuples(STEPS, st.sampled_from([0.5, 1.0])), min_size=1, max_size=5), st.integers(0, 10_000))
@settings(max_examples=150, deadline=None)
def test_the_planner_s_own_numbers(chosen: list[tuple[dict[str, Any], float]], seed: int) -> None:
    steps = [{"probability": probability, **step} for step, probability in chosen]
    renderer = Renderer(golden(), from_json({"varlen_pipeline": 1, "seed": seed, "steps": steps}))
    variants = range(1, 13)
    image = next(key for key, entry in renderer.dataset.entries.items() if entry.split == "train" and len(entry.objects))
    moves = moves_of(renderer.pipeline, renderer.dataset, image, variants)
    expected = {variant: found for variant in variants if (found := straight(renderer, image, variant)) is not None}
    left = set(variants) if moves is None else set(moves.left)
    for place, variant in enumerate(sorted(set(variants) - left)):
        assert moves is not None
        run, blank, passes = expected[variant]
        assert moves.matrices[place].tolist() == list(run.matrix)
        assert moves.windows[place].tolist() == list(run.target_rect)
        assert (moves.blanks[place], moves.passes[place]) == (blank, passes)
        made = moves.run(place)
        assert (made.before, made.size, made.window, made.members) == (run.before, run.size, run.window, run.members)
    # Only a step that looks at objects is left without need.
    if not any(step.get("mode") == "around_object" for step, _ in chosen):
        assert left == set(variants) - set(expected)


def test_groups_draw_as_the_planner_does() -> None:
    """Frames of one clip share their draws."""
    none = make_objects([], "", [], [], [], [], [], [], [])
    entries = [Entry(f"frame_{n}", "train", Size(64, 48), none, group="clip") for n in range(3)]
    dataset = Dataset("clip", ["moth"], entries, golden().files)
    document = {"varlen_pipeline": 1, "seed": 4, "draw_per": "group", "steps": [{"step": "rotate", "degrees": [-20, 20]}]}
    found = [moves_of(from_json(document), dataset, entry.key, [1, 2]) for entry in entries]
    assert all(each is not None and (each.matrices == found[0].matrices).all() for each in found)  # type: ignore[union-attr]
    run = straight(Renderer(dataset, from_json(document)), "frame_1", 2)
    assert run is not None
    assert found[1] is not None
    assert found[1].matrices[1].tolist() == list(run[0].matrix)


@pytest.mark.parametrize("image", ["a.jpg", "ä\udc80"])
def test_many_streams_begin_as_each_does(image: str) -> None:
    found = units_of(7, image, [1, 20, 300], "tilt")
    for row, variant in zip(found, [1, 20, 300], strict=True):
        stream = Stream(7, image, variant, "tilt")
        assert row.tolist() == [stream.unit() for _ in range(8)]
