"""Contact sheets, pixel by pixel: where tiles lie, and what is drawn on them."""

from __future__ import annotations

import numpy as np
import pytest
from varlen.datasets.skeleton import Skeleton
from varlen.model.geometry import Size
from varlen.render.contact_sheet import CLASS_COLORS, GAP, PAPER, contact_sheet, draw_line, drawn_tile
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline
from tests.core.scenes import objects_of, polygon, scene, square

WHITE = (255, 255, 255)


def blank(width: int = 60, height: int = 40) -> np.ndarray:
    return np.zeros((height, width, 3), np.uint8)


def lit(picture: np.ndarray) -> set[tuple[int, int]]:
    """Pixels that are not black, as (x, y)."""
    return {(int(x), int(y)) for y, x in np.argwhere(picture.any(axis=2))}


def test_a_line_covers_the_pixels_it_goes_over_and_fades_over_one() -> None:
    """Half width 1 at y = 10: the rows whose centres are within 0.5 of it are full, those within 1.5 in part."""
    picture = blank()
    draw_line(picture, np.array([[10.0, 10.0], [20.0, 10.0]]), WHITE, 1.0)
    assert picture[8:12, 15, 0].tolist() == [0, 255, 255, 0]  # centres 9.5 and 10.5 are half a pixel away: within the reach
    half = blank()
    draw_line(half, np.array([[10.0, 10.0], [20.0, 10.0]]), WHITE, 0.5)
    assert half[8:12, 15, 0].tolist() == [0, 128, 128, 0]
    # Its ends are round: the next centre is half a pixel beside and beyond, √½ away.
    assert half[9, 8:12, 0].tolist() == [0, 75, 128, 128]
    assert half[9, 18:22, 0].tolist() == [128, 128, 75, 0]
    assert half[:, 15].any(axis=1).sum() == 2


def test_a_point_is_a_disc_and_what_lies_outside_is_cut() -> None:
    picture = blank()
    draw_line(picture, np.array([[5.5, 5.5], [5.5, 5.5]]), (10, 20, 200), 1.0)
    assert picture[5, 5].tolist() == [10, 20, 200]
    assert picture[5, 6].tolist() == [5, 10, 100]
    assert lit(picture) == {(5, 5), (4, 5), (6, 5), (5, 4), (5, 6), (4, 4), (6, 6), (4, 6), (6, 4)}
    for places in ([[-9.0, 5.0], [-3.0, 5.0]], [[5.0, 50.0], [9.0, 50.0]], [[70.0, 5.0], [80.0, 5.0]]):
        beyond = blank()
        draw_line(beyond, np.array(places), WHITE, 1.0)
        assert not beyond.any()
    across = blank()
    draw_line(across, np.array([[-20.0, 20.0], [90.0, 20.0]]), WHITE, 1.0)
    assert across[19:21].all()


def test_a_tile_shows_boxes_outlines_keypoints_and_their_edges_in_place() -> None:
    dataset = scene({"a": []}, skeleton=Skeleton(("head", "tip", "tail"), ((0, 1), (0, 2))))
    points = [[20.0, 20.0, 2.0], [40.0, 20.0, 1.0], [20.0, 60.0, 0.0]]
    objects = objects_of(
        "a", [{"box": [10, 10, 90, 70], "points": points}, {"polygon": polygon(square(60, 40, 80, 60)), "class": 1, "points": points}]
    )
    plain = np.full((80, 100, 3), 100, np.uint8)
    tile = drawn_tile(dataset, plain, objects, 100)
    first, second = (np.array(color) for color in CLASS_COLORS[:2])

    def towards(x: int, y: int, color: np.ndarray) -> bool:
        """The pixel has moved from gray towards a color."""
        return bool(np.abs(tile[y, x].astype(int) - color).sum() < np.abs(100 - color).sum() * 0.8)

    for x, y in ((50, 10), (10, 50), (90, 50), (50, 70)):
        assert towards(x, y, first)
    for x, y in ((70, 40), (60, 50), (80, 50), (70, 60)):
        assert towards(x, y, second)
    assert tile[20, 20].tolist() == [255, 255, 255]
    assert tile[20, 40].tolist() == [255, 255, 255]
    assert tile[20, 30].min() > 150  # the edge between two that are labelled
    assert (tile[40, 20] == 100).all()  # none to the one that is not
    assert (tile[59, 20] == 100).all()
    small = drawn_tile(dataset, plain, objects, 50)
    assert small.shape == (40, 50, 3)
    assert small[10, 10].tolist() == [255, 255, 255]


def test_rows_of_an_original_and_its_variants_on_gray() -> None:
    dataset = scene({"a": [], "b": []}, b=Size(100, 40))
    renderer = Renderer(dataset, make_pipeline({"step": "flip"}))
    sheet = contact_sheet(renderer, ["a", "b"], 2, tile=50)
    assert sheet.shape == (40 + 20 + 3 * GAP, 3 * 50 + 4 * GAP, 3)
    first, flipped = sheet[GAP : GAP + 40, GAP : GAP + 50], sheet[GAP : GAP + 40, 50 + 2 * GAP : 100 + 2 * GAP]
    assert np.abs(first.astype(int) - flipped[:, ::-1]).max() <= 1
    assert (sheet[:GAP] == PAPER).all()
    assert (sheet[:, :GAP] == PAPER).all()
    assert (sheet[GAP + 40 : 2 * GAP + 40] == PAPER).all()
    assert (sheet[-GAP:] == PAPER).all()
    assert (sheet[:, GAP + 50 : 2 * GAP + 50] == PAPER).all()
    assert np.array_equal(sheet[2 * GAP + 40 : 2 * GAP + 60, GAP : GAP + 50], drawn_tile(dataset, renderer.source("b"), dataset.objects_of("b"), 50))


@pytest.mark.parametrize("number", [0, 6, 7])
def test_classes_beyond_the_colors_begin_anew(number: int) -> None:
    tile = drawn_tile(scene({"a": []}), blank(100, 80), objects_of("a", [{"box": [10, 10, 90, 70], "class": number}]), 100)
    brightest = tile[10, 20:80].max(axis=0).astype(float)
    color = np.array(CLASS_COLORS[number % len(CLASS_COLORS)])
    assert np.allclose(brightest / brightest.max(), color / color.max(), atol=0.02)
