"""What each step makes of given draws, against values worked out by hand from its stated formula."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from varlen.draws import PartnerRing, Stream
from varlen.errors import PipelineError, RenderError
from varlen.kernels.bends import forward
from varlen.model.effects import Bend, Cover, Curve, Gray, Mix, Mosaic, Move, Paste, Recolor
from varlen.model.geometry import Size
from varlen.pipeline.document import from_json
from varlen.steps import CATALOGUE
from varlen.steps.base import DrawContext, Drawn

SIZE = Size(200, 100)
PEERS = PartnerRing({key: [key] for key in "abcde"})
GRAY = (128, 128, 128)


def made(step: str, drawn: Drawn | None = None, size: Size = SIZE, **values: Any) -> Any:
    """The effect of a step for given draws."""
    return CATALOGUE[step].model_validate({"step": step, "id": "s", **values}).effect(drawn or {}, size)


def drawn_by(step: str, seed: int = 0, **values: Any) -> Drawn:
    """What a step draws for image a."""
    one = CATALOGUE[step].model_validate({"step": step, "id": "s", **values})
    return one.draw(Stream(seed, "a", 1, "s"), DrawContext(SIZE, "a", lambda: PEERS))


def goes(move: Move, *points: tuple[float, float]) -> list[tuple[float, float]]:
    return [(round(x, 6), round(y, 6)) for x, y in (move.matrix.point(*point) for point in points)]


def recolored(recolor: Recolor, *color: float) -> list[float]:
    rows = np.array(recolor.matrix).reshape(3, 4)
    return [round(float(value), 4) for value in rows @ [*color, 1.0]]


# --- moves ---


@pytest.mark.parametrize(
    ("turns", "size", "top_left", "top_right"),
    [(1, Size(100, 200), (0, 200), (0, 0)), (2, SIZE, (200, 100), (0, 100)), (3, Size(100, 200), (100, 0), (100, 200))],
)
def test_quarter_turns(turns: int, size: Size, top_left: tuple[float, float], top_right: tuple[float, float]) -> None:
    """Counter-clockwise: after one quarter the top left corner is at the bottom left."""
    move = made("quarter_turn", {"turns": turns})
    assert move.size == size
    assert goes(move, (0, 0), (200, 0)) == [top_left, top_right]
    assert move.matrix.lossless()


@pytest.mark.parametrize(("direction", "expected"), [("horizontal", (190, 20)), ("vertical", (10, 80)), ("both", (190, 80))])
def test_flips(direction: str, expected: tuple[float, float]) -> None:
    move = made("flip", {"direction": direction})
    assert goes(move, (10, 20)) == [expected]
    assert move.matrix.mirrors is (direction != "both")


def test_either_flip_is_one_of_the_two_and_both_come_up() -> None:
    drawn = [drawn_by("flip", seed, direction="either")["direction"] for seed in range(40)]
    assert set(drawn) == {"horizontal", "vertical"}
    assert 10 <= drawn.count("vertical") <= 30
    assert {drawn_by("flip", seed, direction="both")["direction"] for seed in range(9)} == {"both"}


def test_a_rotation_keeps_grows_or_zooms() -> None:
    """By 90° the right end of the middle line comes to lie above the centre, 100 px away; by 30° frames follow from sine and cosine."""
    keep = made("rotate", {"degrees": 90.0}, frame="keep", edges="mirror", edge_color=(1, 2, 3))
    assert keep.size == SIZE
    assert goes(keep, (100, 50), (200, 50)) == [(100, 50), (100, -50)]
    assert (keep.edges, keep.edge_color) == ("mirror", (1, 2, 3))
    grow = made("rotate", {"degrees": 90.0}, frame="grow")
    assert grow.size == (100, 200)
    assert goes(grow, (0, 0), (200, 100)) == [(0, 200), (100, 0)]
    cos, sin = math.cos(math.radians(30)), 0.5
    assert made("rotate", {"degrees": 30.0}, frame="grow").size == (math.ceil(200 * cos + 100 * sin), math.ceil(200 * sin + 100 * cos))
    zoom = made("rotate", {"degrees": 30.0}, frame="zoom")
    assert math.sqrt(zoom.matrix.area_factor(0, 0)) == pytest.approx(max(cos + sin * 100 / 200, cos + sin * 200 / 100))
    assert goes(zoom, (100, 50)) == [(100, 50)]


def test_a_shear_leans_upright_lines_to_the_right_and_raises_the_right_end_of_level_ones() -> None:
    """tan 45° = 1: the top middle moves right by half the height; the right end up by half the width."""
    assert goes(made("shear", {"x_degrees": 45.0, "y_degrees": 0.0}), (100, 0), (100, 100), (100, 50)) == [(150, 0), (50, 100), (100, 50)]
    assert goes(made("shear", {"x_degrees": 0.0, "y_degrees": 45.0}), (200, 50), (0, 50), (100, 50)) == [(200, -50), (0, 150), (100, 50)]


def test_a_shift_is_by_whole_pixels() -> None:
    move = made("shift", {"x_fraction": 0.1013, "y_fraction": -0.2049})
    assert goes(move, (0, 0)) == [(20, -20)]
    assert move.matrix.lossless()


def test_a_scale_grows_the_area_by_its_square_and_the_shape_by_its_stretch() -> None:
    move = made("scale", {"factor": 2.0, "stretch_factor": 4.0})
    assert goes(move, (100, 50), (101, 50), (100, 51)) == [(100, 50), (104, 50), (100, 51)]
    assert move.matrix.area_factor(0, 0) == pytest.approx(4.0)


def test_a_perspective_takes_each_corner_where_it_was_drawn_to() -> None:
    corners = [[0.05, 0.1], [-0.05, 0.02], [0.01, -0.04], [0.0, 0.03]]
    move = made("perspective", {"corners": corners})
    assert goes(move, (0, 0), (200, 0), (200, 100), (0, 100)) == [(10, 10), (190, 2), (202, 96), (0, 103)]
    assert not move.matrix.affine
    drawn = drawn_by("perspective", corner_fraction=[0.1, 0.1])["corners"]
    assert len(drawn) == 4
    assert all(abs(value) <= 0.1 for corner in drawn for value in corner)
    assert len({value for corner in drawn for value in corner}) == 8


def test_an_elastic_field_is_as_strong_as_drawn_and_absent_where_it_would_not_show() -> None:
    drawn = {"strength_fraction": 0.02, "field": 7}
    bend = made("elastic", drawn)
    assert isinstance(bend, Bend)
    assert (bend.field.size, bend.field.spacing, bend.field.strength) == (SIZE, pytest.approx(10), pytest.approx(2))
    assert made("elastic", {**drawn, "strength_fraction": 0.0001}) is None
    assert made("elastic", drawn, Size(7, 300)) is None
    assert made("elastic", drawn, Size(8, 300)) is not None
    # A field stronger than 0.48 of its spacing might fold.
    step = {"step": "elastic", "spacing_fraction": 0.05}
    from_json({"varlen_pipeline": 1, "steps": [{**step, "strength_fraction": [0, 0.024]}]})
    with pytest.raises(PipelineError, match=r"strength_fraction 0.0241 would fold the picture with spacing_fraction 0.05; at most 0.024"):
        from_json({"varlen_pipeline": 1, "steps": [{**step, "strength_fraction": [0, 0.0241]}]})


# --- crops, sizes, padding ---


def test_crops_of_a_window_and_the_centre() -> None:
    window = made("crop", mode="window", left_px=30, top_px=20, width_px=50, height_px=40)
    assert (window.size, window.cuts, goes(window, (30, 20))) == ((50, 40), True, [(0, 0)])
    with pytest.raises(RenderError, match=r"step s: the window 50×40 px at \(180, 90\) reaches beyond a picture of 200×100 px"):
        made("crop", mode="window", left_px=180, top_px=90, width_px=50, height_px=40)
    padded = made("crop", mode="window", left_px=180, top_px=90, width_px=50, height_px=40, beyond="pad")
    assert (padded.size, padded.window, goes(padded, (180, 90))) == ((50, 40), (0, 0, 20, 10), [(0, 0)])
    for left, top in ((200, 0), (0, 100)):
        with pytest.raises(RenderError, match=rf"step s: the window starts at \({left}, {top}\) px, outside a picture of 200×100 px"):
            made("crop", mode="window", left_px=left, top_px=top)
    centre = made("crop", mode="centre", fraction=0.6)
    assert (centre.size, goes(centre, (40, 20), (160, 80))) == ((120, 60), [(0, 0), (120, 60)])
    assert made("crop", size=Size(9, 1), mode="centre", fraction=0.01).size == (1, 1)


def test_a_random_crop_has_the_area_and_shape_that_were_drawn() -> None:
    """A quarter of 200 × 100 at 2:1 is 100 × 50; placed by the shares of what is left over."""
    move = made("crop", {"area_fraction": 0.25, "aspect": 2.0, "x_fraction": 0.25, "y_fraction": 1.0}, mode="random")
    assert (move.size, goes(move, (25, 50))) == ((100, 50), [(0, 0)])
    tall = made("crop", {"area_fraction": 1.0, "aspect": 0.5, "x_fraction": 0.0, "y_fraction": 0.0}, mode="random")
    assert tall.size == (50, 100)  # shrunk in its shape until it fits


def test_a_crop_around_an_object_keeps_all_of_it() -> None:
    drawn = {"object": {"image": "a", "id": "1"}, "box_px": [-3.2, 10.4, 80.5, 60.1]}
    move = made("crop", drawn, mode="around_object")
    assert (move.size, goes(move, (0, 10))) == ((81, 51), [(0, 0)])
    assert made("crop", {"object": None}, mode="around_object").size == SIZE


@pytest.mark.parametrize(
    ("fit", "size", "content", "window"),
    [
        ("stretch", (100, 100), (0, 0, 100, 100), None),
        ("letterbox", (100, 100), (0, 25, 100, 75), (0, 25, 100, 75)),
        ("cover", (100, 100), (-50, 0, 150, 100), None),
        ("longest", (100, 50), (0, 0, 100, 50), None),
        ("shortest", (200, 100), (0, 0, 200, 100), None),
    ],
)
def test_fits_of_a_resize(fit: str, size: Size, content: tuple[float, ...], window: tuple[float, ...] | None) -> None:
    """200 × 100 to 100 × 100; with longest and shortest that side becomes 100."""
    move = made("resize", width_px=100, height_px=100, fit=fit, pad_color=[9, 8, 7])
    assert move.size == size
    assert goes(move, (0, 0), (200, 100)) == [content[:2], content[2:]]
    assert move.window == window
    assert move.cuts is (fit == "cover")
    if window:
        assert move.pad_color == (9, 8, 7)


def test_a_letterbox_that_fits_exactly_has_no_padding() -> None:
    assert made("resize", width_px=400, height_px=200, fit="letterbox").window is None


@pytest.mark.parametrize(
    ("values", "size", "origin"),
    [
        ({"multiple_px": 64}, (256, 128), (28, 14)),
        ({}, (224, 128), (12, 14)),
        ({"width_px": 300}, (300, 100), (50, 0)),
        ({"width_px": 150, "height_px": 131}, (200, 131), (0, 15)),
    ],
)
def test_padding_is_even(values: dict[str, int], size: Size, origin: tuple[int, int]) -> None:
    move = made("pad", edges="solid", edge_color=GRAY, **values)
    assert (move.size, goes(move, (0, 0))) == (size, [origin])
    assert move.window == (*origin, origin[0] + 200, origin[1] + 100)
    mirrored = made("pad", edges="mirror", **values)
    assert (mirrored.size, mirrored.window, mirrored.edges) == (size, None, "mirror")


def test_padding_of_what_is_large_enough_is_nothing() -> None:
    assert made("pad", multiple_px=50) is None
    assert made("pad", width_px=200, height_px=90) is None


# --- color ---


def test_gamma_by_its_formula() -> None:
    curve = made("gamma", {"exponent": 2.0})
    assert isinstance(curve, Curve)
    assert [curve.levels[level] for level in (0, 51, 128, 255)] == [0, 10, 64, 255]  # 255 · (51/255)² = 10.2; 255 · (128/255)² = 64.25
    assert list(made("gamma", {"exponent": 1.0}).levels) == list(range(256))


def test_color_jitter_one_part_at_a_time() -> None:
    same = {"brightness_factor": 1.0, "contrast_factor": 1.0, "saturation_factor": 1.0, "hue_degrees": 0.0}
    assert recolored(made("color_jitter", same), 10, 20, 200) == [10, 20, 200]
    assert recolored(made("color_jitter", {**same, "brightness_factor": 2.0}), 10, 20, 200) == [20, 40, 400]
    assert recolored(made("color_jitter", {**same, "contrast_factor": 0.5}), 127.5, 0, 255) == [127.5, 63.75, 191.25]
    luma = 0.299 * 10 + 0.587 * 20 + 0.114 * 200
    assert recolored(made("color_jitter", {**same, "saturation_factor": 0.5}), 10, 20, 200) == [
        pytest.approx(luma + 0.5 * (level - luma)) for level in (10, 20, 200)
    ]
    # A third of the circle takes red to green, green to blue, blue to red; gray stays.
    assert recolored(made("color_jitter", {**same, "hue_degrees": 120.0}), 10, 20, 200) == [200, 10, 20]
    assert recolored(made("color_jitter", {**same, "hue_degrees": 77.0}), 50, 50, 50) == [50, 50, 50]


def test_color_jitter_scales_contrast_before_brightness() -> None:
    both = {"brightness_factor": 2.0, "contrast_factor": 0.5, "saturation_factor": 1.0, "hue_degrees": 0.0}
    assert recolored(made("color_jitter", both), 127.5, 0, 255) == [255, 127.5, 382.5]


def test_warmth_keeps_gray_as_light_and_gives_blue_to_red() -> None:
    warm = made("warmth", {"shift": 0.5})
    red, green, blue = recolored(warm, 100, 100, 100)
    assert 0.299 * red + 0.587 * green + 0.114 * blue == pytest.approx(100, abs=1e-3)
    assert red / green == pytest.approx(1.5, abs=1e-3)
    assert blue / green == pytest.approx(0.5, abs=1e-3)


def test_gains_gray_and_one_channel() -> None:
    gains = made("channel_gain", {"red_factor": 2.0, "green_factor": 0.5, "blue_factor": 1.0})
    assert recolored(gains, 10, 20, 200) == [20, 10, 200]
    luma = 0.299 * 10 + 0.587 * 20 + 0.114 * 200
    assert recolored(made("grayscale", channels=3), 10, 20, 200) == [pytest.approx(luma)] * 3
    assert isinstance(made("grayscale", channels=1), Gray)


def test_recolors_follow_one_another_without_rounding() -> None:
    first, second = Recolor.gains(2, 3, 4, 5), Recolor((0, 1, 0, 7, 0, 0, 1, 8, 1, 0, 0, 9))
    # (1, 2, 3) → (7, 11, 17) → (green + 7, blue + 8, red + 9)
    assert recolored(first.then(second), 1, 2, 3) == [18, 25, 16]


# --- details: when there is nothing to do ---


@pytest.mark.parametrize(
    ("step", "nothing", "something"),
    [
        ("blur", {"sigma_px": 0.149}, {"sigma_px": 0.15}),
        ("motion_blur", {"length_px": 1.0, "degrees": 3.0}, {"length_px": 1.1, "degrees": 3.0}),
        ("sharpen", {"amount": 0.0}, {"amount": 0.01}),
        ("coarsen", {"factor": 1.0}, {"factor": 0.99}),
        ("noise", {"sigma_levels": 0.0, "key": 1}, {"sigma_levels": 0.1, "key": 1}),
        ("relight", {"strength": 0.0, "angle_degrees": 0.0, "shadows": []}, {"strength": 0.1, "angle_degrees": 0.0, "shadows": []}),
        ("equalize", {"limit": 1.0}, {"limit": 1.01}),
    ],
)
def test_a_step_that_would_change_nothing_is_left_out(step: str, nothing: Drawn, something: Drawn) -> None:
    assert made(step, nothing) is None
    effect = made(step, something)
    assert effect is not None
    assert something.items() <= effect.values.items()


# --- what covers and combines ---


def test_cutout_areas_are_whole_pixels_within_the_picture() -> None:
    drawn = {"areas": [[0.1, 0.2, 0.25, 0.5], [0.999, 0.999, 0.0001, 0.0001]], "key": 5}
    cover = made("cutout", drawn, fill="solid", fill_color=[1, 2, 3])
    assert cover == Cover(((20, 20, 70, 70),), "solid", (1, 2, 3), 5)
    assert made("cutout", {"areas": [], "key": 5}) is None
    small = made("cutout", {"areas": [[0.5, 0.5, 0.001, 0.001]], "key": 5})
    assert small.areas == ((100, 50, 101, 51),)  # never less than a pixel


def test_cutouts_keep_off_objects_or_are_left_out() -> None:
    class Seen:
        def __init__(self, *box: float) -> None:
            self.box, self.image, self.id = box, "a", "1"

    def areas(seed: int, *boxes: Seen) -> list[list[float]]:
        step = CATALOGUE["cutout"].model_validate({"step": "cutout", "id": "s", "keep_off": "objects", "count": [3, 3], "size_fraction": [0.2, 0.2]})
        context = DrawContext(SIZE, "a", lambda: PEERS, lambda: list(boxes))  # type: ignore[arg-type]
        found: list[list[float]] = step.draw(Stream(seed, "a", 1, "s"), context)["areas"]
        return found

    assert areas(0, Seen(0, 0, 200, 100)) == []
    for seed in range(30):
        for x, _, wide, _ in areas(seed, Seen(0, 0, 100, 100)):
            assert x * 200 >= 100
            assert wide == pytest.approx(0.2)
    assert len(areas(1)) == 3


def test_mosaics_of_four_and_nine_by_hand() -> None:
    tiles = [{"image": key, "scale": 1.0, "x_fraction": 0.0, "y_fraction": 1.0} for key in "abcd"]
    four = made("mosaic", {"centre": [0.25, 0.6], "turn": 0, "tiles": tiles})
    assert isinstance(four, Mosaic)
    assert [(cell.image, cell.rect) for cell in four.cells] == [
        ("a", (0, 0, 50, 60)), ("b", (50, 0, 200, 60)), ("c", (50, 60, 200, 100)), ("d", (0, 60, 50, 100)),
    ]  # fmt: skip
    turned = made("mosaic", {"centre": [0.25, 0.6], "turn": 3, "tiles": tiles})
    assert turned.cells[0].rect == (0, 60, 50, 100)
    nine = made("mosaic", {"centre": [0.5, 0.5], "turn": 0, "tiles": [*tiles, *tiles, tiles[0]]}, grid="3x3", width_px=300, height_px=150)
    assert nine.size == (300, 150)
    assert [cell.rect for cell in nine.cells][::4] == [(0, 0, 100, 50), (100, 50, 200, 100), (200, 100, 300, 150)]
    # At scale 1 a picture of half the canvas fills it whole; its left and bottom show in the cell.
    assert goes(Move(four.cells[0].matrix(Size(100, 50), SIZE), SIZE), (0, 50)) == [(0, 60)]
    assert four.cells[0].matrix(Size(100, 50), SIZE).a == 2.0


def test_draws_that_name_partners_take_others_than_the_picture_itself() -> None:
    drawn = drawn_by("mosaic", grid="3x3")
    assert len(drawn["tiles"]) == 9
    assert drawn["tiles"][0]["image"] == "a"
    assert all(tile["image"] in "bcde" for tile in drawn["tiles"][1:])
    assert {drawn_by("mosaic", seed)["turn"] for seed in range(40)} == {0, 1, 2, 3}
    assert {drawn_by("mixup", seed)["image"] for seed in range(60)} == set("bcde")
    assert made("mixup", {"image": "b", "weight": 0.3}) == Mix("b", 0.3)
    assert made("paste_objects", {"guests": []}) is None
    guest = {"image": "b", "choice": 0.5, "scale_factor": 2.0, "x_fraction": 0.1, "y_fraction": 0.9}
    paste = made("paste_objects", {"guests": [guest]})
    assert isinstance(paste, Paste)
    assert [(one.image, one.choice, one.scale, one.x, one.y) for one in paste.guests] == [("b", 0.5, 2.0, 0.1, 0.9)]
    assert {len(drawn_by("paste_objects", seed, count=[0, 2])["guests"]) for seed in range(40)} == {0, 1, 2}


def test_draws_lie_in_their_spans_and_reach_both_ends() -> None:
    """Many draws of a span come near both its ends, and never beyond."""
    for step, name, low, high in (
        ("rotate", "degrees", -10, 40),
        ("blur", "sigma_px", 1, 3),
        ("gamma", "exponent", 0.5, 2),
        ("mixup", "weight", 0.2, 0.4),
    ):
        drawn = [drawn_by(step, seed, **{name: [low, high]})[name] for seed in range(200)]
        assert low <= min(drawn) <= low + 0.05 * (high - low)
        assert high - 0.05 * (high - low) <= max(drawn) <= high
    factors = [math.log2(drawn_by("gamma", seed, exponent=[0.5, 2])["exponent"]) for seed in range(400)]
    assert abs(np.mean(factors)) < 0.1  # even in octaves: as often halved as doubled


@pytest.mark.parametrize(("k1", "k2"), [(-0.2, 0.0), (0.3, -0.05), (0.0, 0.2)])
def test_a_lens_moves_points_along_their_radius(k1: float, k2: float) -> None:
    bend = made("lens", {"k1": k1, "k2": k2}, Size(640, 480))
    points = np.array([[320.0, 240], [100, 100], [600, 300], [320, 20], [30, 440]])
    r = np.hypot(*(points - [320, 240]).T)[:, None] / 400
    wanted = np.array([320, 240]) + (points - [320, 240]) * (1 + k1 * r**2 + k2 * r**4)
    assert np.abs(forward(points - bend.field.origin, bend.field) + bend.field.origin - wanted).max() < 0.01
    assert made("lens", {"k1": 0.0, "k2": 0.0}) is None


@pytest.mark.parametrize(("alone", "together"), [("brightness", "brightness_factor"), ("contrast", "contrast_factor"),
                                                 ("saturation", "saturation_factor"), ("hue", "hue_degrees")])  # fmt: skip
def test_one_effect_alone_is_the_jitter_with_the_others_at_rest(alone: str, together: str) -> None:
    rest = {"brightness_factor": 1.0, "contrast_factor": 1.0, "saturation_factor": 1.0, "hue_degrees": 0.0}
    value = 30.0 if alone == "hue" else 1.7
    own = made(alone, {"degrees" if alone == "hue" else "factor": value})
    assert own.matrix == pytest.approx(made("color_jitter", {**rest, together: value}).matrix, abs=1e-12)
