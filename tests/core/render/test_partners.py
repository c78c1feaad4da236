"""Composites: which partners they take, what becomes of their labels, and which object is pasted; worked out by hand."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pytest
from varlen.draws import PartnerRing
from varlen.errors import RenderError
from varlen.model.effects import MosaicCell
from varlen.model.geometry import Size
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline
from tests.core.scenes import block, polygon, scene, square


def replayed(renderer: Renderer, image: str, *steps: dict[str, Any]) -> tuple[Any, Any]:
    """Sample and trace of a variant whose draws are given."""
    trace: Any = {"image": image, "variant": 1, "steps": [{"step": "", "fired": True, "id": "", **step} for step in steps]}
    plan = renderer.replan(trace)
    found = renderer.variant_labels(image, 1, plan)
    return (renderer.render_pixels(plan, found), found.objects), found.trace


def tile(image: str, scale: float = 0.5, x: float = 0.0, y: float = 0.0) -> dict[str, Any]:
    return {"image": image, "scale": scale, "x_fraction": x, "y_fraction": y}


def mosaic(turn: int, *tiles: dict[str, Any], partners: tuple[str, ...] = ()) -> dict[str, Any]:
    own = [{"image": each["image"], "steps": []} for each in tiles[1:]]
    return {"id": "mosaic", "drawn": {"centre": [0.5, 0.5], "turn": turn, "tiles": list(tiles)}, "partners": own}


@pytest.mark.parametrize(("turn", "corner"), [(0, (0, 0)), (1, (50, 0)), (2, (50, 40)), (3, (0, 40))])
def test_a_mosaic_of_halves_puts_every_picture_into_its_quarter(turn: int, corner: tuple[int, int]) -> None:
    """At half size a picture fills a quarter exactly; they go clockwise from the top left, the own one `turn` quarters on."""
    rows = {name: [{"box": [20.0, 20.0, 60.0, 60.0], "class": n % 2, "id": f"of {name}"}] for n, name in enumerate("abcd")}
    renderer = Renderer(scene(rows), make_pipeline({"step": "mosaic"}))
    (pixels, objects), trace = replayed(renderer, "a", mosaic(turn, *map(tile, "abcd")))
    corners = [(0, 0), (50, 0), (50, 40), (0, 40)]
    assert objects.images == ("a", "b", "c", "d")
    assert objects.ids == ("of a", "of b", "of c", "of d")
    assert objects.classes.tolist() == [0, 1, 0, 1]
    for place in range(4):
        left, top = corners[(place + turn) % 4]
        assert objects.boxes[place].tolist() == [left + 10, top + 10, left + 30, top + 30]
    assert corners[turn] == corner
    half = renderer.source_halved("a", 1)
    assert np.array_equal(pixels[corner[1] : corner[1] + 40, corner[0] : corner[0] + 50], half)
    assert trace["objects"]["kept"] == 4


def test_losses_of_a_mosaic_s_partners() -> None:
    """Whole size shows a quarter of each picture: what a partner never brought in is no loss, what its cell cuts is one."""
    rows = [{"box": [5.0, 5.0, 25.0, 25.0], "id": "in"}, {"box": [45.0, 5.0, 65.0, 25.0], "id": "cut"},
            {"box": [46.0, 30.0, 90.0, 38.0], "id": "mostly out"}, {"box": [70.0, 60.0, 90.0, 70.0], "id": "out"}]  # fmt: skip
    renderer = Renderer(scene({"a": rows, "b": rows}), make_pipeline({"step": "mosaic"}))
    (_, objects), trace = replayed(renderer, "a", mosaic(0, tile("a", 1.0), tile("b", 1.0), tile("b", 1.0), tile("b", 1.0)))
    assert objects.ids == ("in", "cut") * 4
    assert objects.images == ("a",) * 2 + ("b",) * 6
    dropped = [(each["image"], each["id"], each["reason"], each["step"]) for each in trace["objects"]["dropped"]]
    lost_of_own = [("a", "mostly out", "less than 25 % left", "mosaic"), ("a", "out", "outside the frame", "mosaic")]
    assert dropped == lost_of_own + [("b", "mostly out", "less than 25 % left", "mosaic")] * 3
    assert [(each["id"], each["share"]) for each in trace["objects"]["clipped_by"]] == [("cut", 0.25)] * 4
    assert objects.boxes[2].tolist() == [55, 5, 75, 25]  # the top right quarter shows the partner from its own top left corner
    assert objects.boxes[3].tolist() == [95, 5, 100, 25]


@pytest.mark.parametrize(
    ("scale", "x", "y", "expected"),
    [
        (0.5, 0.0, 0.0, (0.5, 0.0, 0.0)),
        (0.5, 1.0, 1.0, (0.5, 0.0, 0.0)),  # fills its cell exactly: nowhere to move
        (1.0, 0.0, 0.0, (1.0, 0.0, 0.0)),
        (1.0, 1.0, 1.0, (1.0, -50.0, -40.0)),
        (1.0, 0.5, 0.25, (1.0, -25.0, -10.0)),
        (0.1, 0.0, 1.0, (0.5, 0.0, 0.0)),  # enlarged until the cell is filled
    ],
)
def test_which_part_of_a_picture_its_cell_shows(scale: float, x: float, y: float, expected: tuple[float, float, float]) -> None:
    matrix = MosaicCell("a", (0, 0, 50, 40), scale, x, y).matrix(Size(100, 80), Size(100, 80))
    assert (matrix.a, matrix.c, matrix.f) == expected
    assert matrix.e == matrix.a
    # A picture of another shape is fitted whole into the canvas before it is scaled, and fills the longer side of its cell.
    upright = MosaicCell("a", (0, 0, 50, 40), 0.5, 0.5, 0.5).matrix(Size(40, 80), Size(100, 80))
    assert (upright.a, upright.c, upright.f) == (1.25, 0.0, -30.0)


def test_mixup_fills_the_frame_with_the_partner_and_weighs_both() -> None:
    """A partner of 50×80 px is doubled to fill 100×80 px; 40 px of its height hang over above and below."""
    rows = {"a": [{"box": [10.0, 10.0, 30.0, 30.0], "id": "own"}], "b": [{"box": [10.0, 30.0, 20.0, 50.0], "id": "in"},
            {"box": [10.0, 15.0, 20.0, 22.0], "id": "cut"}, {"box": [10.0, 0.0, 20.0, 10.0], "id": "over"}]}  # fmt: skip
    renderer = Renderer(scene(rows, b=Size(50, 80)), make_pipeline({"step": "mixup"}))
    step = {"id": "mixup", "drawn": {"image": "b", "weight": 0.75}, "partners": [{"image": "b", "steps": []}]}
    (pixels, objects), trace = replayed(renderer, "a", step)
    assert objects.ids == ("own", "in", "cut")
    assert objects.boxes.tolist() == [[10, 10, 30, 30], [20, 20, 40, 60], [20, 0, 40, 4]]
    assert [each["weight"] for each in objects.attributes] == [0.75, 0.25, 0.25]
    assert trace["objects"]["dropped"] == []  # what was never brought in is no loss
    assert [(each["id"], each["share"]) for each in trace["objects"]["clipped_by"]] == [("cut", 0.2857)]
    assert renderer.classes(renderer.replan({"image": "a", "variant": 1, "steps": [{"step": "mixup", "fired": True, **step}]})) == {
        "ash veil": 0.75, "copper hook": 0.25,
    }  # fmt: skip
    own = renderer.source("a").astype(float)
    assert np.abs(pixels - 0.75 * own).max() <= 0.25 * 255 + 1


@pytest.mark.parametrize(("choice", "chosen"), [(0.0, "outline"), (0.33, "outline"), (0.34, "mask"), (0.66, "mask"), (0.67, "last"), (1.0, "last")])
def test_which_object_is_pasted_and_where(choice: float, chosen: str) -> None:
    """Only objects with a shape and an area can be cut out; the choice goes along their list, the centre to its place."""
    partner = [
        {"box": [0.0, 0.0, 30.0, 30.0], "id": "bare"},
        {"polygon": polygon(square(10, 10, 30, 20)), "id": "outline"},
        {"mask": block(40, 40, 20, 10), "id": "mask"},
        {"polygon": polygon(square(5, 5, 5, 5)), "id": "no area"},
        {"polygon": polygon(square(0, 0, 9, 9)), "id": "many", "crowd": True},
        {"polygon": polygon(square(60, 60, 80, 70)), "id": "last"},
    ]
    rows = {"a": [{"box": [45.0, 15.0, 55.0, 25.0], "id": "under"}, {"box": [0.0, 60.0, 20.0, 80.0], "id": "beside"}], "b": partner}
    renderer = Renderer(scene(rows), make_pipeline({"step": "paste_objects"}))
    guest = {"image": "b", "choice": choice, "scale_factor": 2.0, "x_fraction": 0.5, "y_fraction": 0.25}
    step = {"id": "paste_objects", "drawn": {"guests": [guest]}, "partners": [{"image": "b", "steps": []}]}
    (_, objects), trace = replayed(renderer, "a", step)
    assert trace["steps"][0]["pasted"] == [{"image": "b", "id": chosen}]
    assert objects.ids == ("beside", chosen)
    assert objects.images == ("a", "b")
    assert objects.boxes[1].tolist() == [30, 10, 70, 30]  # 20×10 px doubled, around (50, 20)
    assert [(each["id"], each["reason"], each["step"]) for each in trace["objects"]["dropped"]] == [("under", "covered", "paste_objects")]


def test_a_partner_without_anything_to_cut_out_gives_nothing() -> None:
    renderer = Renderer(scene({"a": [], "b": [{"box": [0.0, 0.0, 30.0, 30.0]}]}), make_pipeline({"step": "paste_objects", "count": [2, 2]}))
    found = renderer.variant_labels("a", 1)
    assert found.trace["steps"][0]["pasted"] == []
    assert found.trace["passes"] == 0
    assert len(found.objects) == 0


def test_partners_go_through_the_earlier_steps_with_draws_of_their_own() -> None:
    rows = {name: [{"box": [20.0, 20.0, 60.0, 60.0]}] for name in "abc"}
    steps = [{"step": "rotate", "degrees": [-40, 40]}, {"step": "mosaic"}, {"step": "gamma"}]
    trace = Renderer(scene(rows), make_pipeline(*steps, seed=4)).variant_labels("a", 1).trace
    rotate, mosaic_step, gamma = trace["steps"]
    assert [each["id"] for each in (rotate, mosaic_step, gamma)] == ["rotate", "mosaic", "gamma"]
    assert [each["image"] for each in mosaic_step["partners"]] == [each["image"] for each in mosaic_step["drawn"]["tiles"][1:]]
    drawn = [each["steps"][0]["drawn"]["degrees"] for each in mosaic_step["partners"]]
    assert [[step["id"] for step in each["steps"]] for each in mosaic_step["partners"]] == [["rotate"]] * 3
    assert len({rotate["drawn"]["degrees"], *drawn}) == 4  # also where the same picture is there twice
    assert set(trace["partners_sha256"]) == {each["image"] for each in mosaic_step["partners"]}


def test_a_partner_is_never_the_picture_itself_unless_it_is_alone() -> None:
    class Words:
        def __init__(self) -> None:
            self.word_ = 0

        def word(self) -> int:
            self.word_ += 0x0123456789ABCDEF
            return self.word_ % 2**64

    names = [f"{n:03d}" for n in range(40)]
    ring, words = PartnerRing.alone(names), Words()
    picked = [ring.pick(words, "007") for _ in range(4000)]  # type: ignore[arg-type]
    assert "007" not in picked
    assert set(picked) == set(names) - {"007"}
    assert max(map(picked.count, names)) < 6 * min(picked.count(name) for name in names if name != "007")
    assert PartnerRing.alone(["007"]).pick(words, "007") == "007"  # type: ignore[arg-type]
    # One image more takes only what falls on its own arcs.
    again, more = Words(), PartnerRing.alone(sorted([*names, "new"]))
    changed = [(one, other) for one, other in zip(picked, (more.pick(again, "007") for _ in range(4000)), strict=True) if one != other]  # type: ignore[arg-type]
    assert changed
    assert {other for _, other in changed} == {"new"}
    assert len(more) == 41


def test_members_of_groups_take_the_partner_group_s_member_of_their_own_place() -> None:
    ring = PartnerRing({"dusk": ["dusk/2", "dusk/1"], "night": ["night/1", "night/2"], "one": ["one/1"], "alone": ["alone"]})

    class First:
        def word(self) -> int:
            return self.value

        value = 0

    stream = First()
    met = set()
    for step in range(400):
        stream.value = step * (2**64 // 400)
        first, second = (ring.pick(stream, name) for name in ("dusk/1", "dusk/2"))  # type: ignore[arg-type]
        met.add((first, second))
    assert met == {("night/1", "night/2"), ("one/1", "one/1"), ("alone", "alone")}


def test_a_junction_takes_branches_as_often_as_their_weights_say() -> None:
    class Unit:
        def __init__(self, value: float) -> None:
            self.value = value

        def unit(self) -> float:
            return self.value

    branches = [{"weight": 1, "steps": []}, {"weight": 3, "steps": []}, {"weight": 0.5, "steps": []}]
    junction = make_pipeline({"step": "junction", "branches": branches}).steps[0]
    limits = [(0.0, 0), (1 / 4.5 - 1e-9, 0), (1 / 4.5, 1), (4 / 4.5 - 1e-9, 1), (4 / 4.5, 2), (1 - 1e-12, 2)]
    assert [junction.draw(Unit(value), None)["branch"] for value, _ in limits] == [branch for _, branch in limits]  # type: ignore[arg-type]


def test_steps_within_objects_draw_for_each_object_and_each_copy_of_it() -> None:
    rows = {"a": [{"box": [10.2, 10.7, 30.1, 30.0], "id": "one"}, {"box": [50.0, 10.0, 50.0, 30.0], "id": "no area"},
            {"box": [60.0, 40.0, 80.0, 60.0], "id": "two"}], "b": [{"box": [10.0, 10.0, 90.0, 70.0], "id": "three"}]}  # fmt: skip
    renderer = Renderer(scene(rows), make_pipeline({"step": "rotate", "within": "objects", "degrees": [-40, 40]}, labels={"keep_side_px": 0}))
    plan = renderer.plan("a", 1)
    drawn = plan.steps[0]["drawn"]["objects"]
    assert [(each["image"], each["object"], each["copy"]) for each in drawn] == [("a", "one", 0), ("a", "two", 0)]
    assert drawn[0]["drawn"] != drawn[1]["drawn"]
    (stage,) = plan.stages
    assert [(patch.place, patch.rect, tuple(patch.plan.size)) for patch in stage.patches] == [  # type: ignore[union-attr]
        (0, (10, 10, 31, 30), (21, 20)), (2, (60, 40, 80, 60), (20, 20)),
    ]  # fmt: skip
    # The same partner twice in a mosaic: its object is drawn for twice.
    twice = Renderer(scene(rows), make_pipeline({"step": "mosaic"}, {"step": "flip", "within": "objects", "probability": 0.5}))
    copies = {(each["image"], each["object"], each["copy"]) for each in twice.plan("a", 1).steps[1]["drawn"]["objects"] if each["image"] == "b"}
    assert copies == {("b", "three", 0), ("b", "three", 1), ("b", "three", 2)}


def test_what_is_not_in_a_trace_is_said() -> None:
    renderer = Renderer(scene({"a": [], "b": []}), make_pipeline({"step": "mixup", "id": "mix"}))
    good = renderer.plan("a", 1).steps
    for broken, message in (
        ([], "step mix: the trace has no draw of it"),
        ([{**good[0], "partners": []}], "step mix: the trace names no partner 1"),
    ):
        with pytest.raises(RenderError, match=message):
            renderer.replan(json.loads(json.dumps({"image": "a", "variant": 1, "steps": broken})))
    with pytest.raises(RenderError, match="z: the dataset has no such image"):
        renderer.replan(json.loads(json.dumps({"image": "z", "variant": 1, "steps": []})))
    within = Renderer(scene({"a": [{"box": [1, 1, 9, 9]}]}), make_pipeline({"step": "flip", "within": "objects", "id": "turn"}))
    empty: Any = {"image": "a", "variant": 1, "steps": [{"id": "turn", "step": "flip", "fired": True, "drawn": {"objects": []}}]}
    with pytest.raises(RenderError, match="step turn: the trace has no draw for object 0 of a"):
        within.replan(empty)
