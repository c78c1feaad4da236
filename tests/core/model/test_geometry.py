"""Plane transforms against NumPy and Shapely."""

from __future__ import annotations

import math

import numpy as np
import pytest
import shapely
from hypothesis import assume, given
from hypothesis import strategies as st
from varlen.kernels.label_transforms import exposed_share
from varlen.model.geometry import IDENTITY, Matrix, Size, about, area, clip_polygon, quad_from_square, rotation, scaling, translation

NUMBER = st.floats(-50, 50)
AFFINE = st.builds(lambda a, b, c, d, e, f: Matrix(a, b, c, d, e, f), NUMBER, NUMBER, NUMBER, NUMBER, NUMBER, NUMBER)
TILT = st.floats(-0.003, 0.003)


def array(matrix: Matrix) -> np.ndarray:
    return np.array(matrix).reshape(3, 3)


@given(AFFINE, AFFINE)
def test_then_is_the_matrix_product_the_other_way_round(first: Matrix, second: Matrix) -> None:
    assert np.allclose(array(first.then(second)), array(second) @ array(first), atol=1e-9)


@given(AFFINE, AFFINE, TILT, TILT, TILT, TILT)
def test_also_of_perspectives_up_to_scale(first: Matrix, second: Matrix, g: float, h: float, k: float, m: float) -> None:
    first, second = first._replace(g=g, h=h), second._replace(g=k, h=m)
    product = array(second) @ array(first)
    assume(abs(product[2, 2]) > 0.05)
    assert np.allclose(array(first.then(second)), product / product[2, 2], rtol=1e-9, atol=1e-9)


@given(AFFINE, TILT, TILT, NUMBER, NUMBER)
def test_the_inverse_leads_back(matrix: Matrix, g: float, h: float, x: float, y: float) -> None:
    matrix = matrix._replace(g=g, h=h)
    assume(min(abs(np.linalg.det(array(matrix))), abs(matrix.determinant)) > 1e-2)
    assume(abs(g * x + h * y + 1) > 0.05)
    assume(np.linalg.cond(array(matrix)) < 1e6)
    assert np.allclose(matrix.inverse().point(*matrix.point(x, y)), (x, y), atol=1e-4)


@given(AFFINE, st.lists(st.tuples(NUMBER, NUMBER), min_size=1, max_size=9))
def test_many_points_go_where_each_goes(matrix: Matrix, points: list[tuple[float, float]]) -> None:
    assert np.allclose(matrix.points(np.array(points, np.float64)), [matrix.point(x, y) for x, y in points])


@given(st.lists(st.floats(-0.2, 0.2), min_size=8, max_size=8), NUMBER, NUMBER)
def test_a_perspective_goes_through_its_corners_and_back(moves: list[float], x: float, y: float) -> None:
    corners = [(cx + dx, cy + dy) for (cx, cy), dx, dy in zip([(0, 0), (1, 0), (1, 1), (0, 1)], moves[::2], moves[1::2], strict=True)]
    matrix = quad_from_square(corners)
    for (cx, cy), corner in zip([(0, 0), (1, 0), (1, 1), (0, 1)], corners, strict=True):
        assert matrix.point(cx, cy) == pytest.approx(corner, abs=1e-9)
    u, v = (abs(x) % 1.0, abs(y) % 1.0)
    assert matrix.inverse().point(*matrix.point(u, v)) == pytest.approx((u, v), abs=1e-7)
    step = 1e-5
    ax, ay = matrix.point(u, v)
    bx, by = matrix.point(u + step, v)
    cx, cy = matrix.point(u, v + step)
    assert matrix.area_factor(u, v) == pytest.approx(((bx - ax) * (cy - ay) - (by - ay) * (cx - ax)) / step**2, rel=1e-3)


@given(st.floats(-360, 360), NUMBER, NUMBER, NUMBER, NUMBER)
def test_a_rotation_about_a_point_keeps_it_and_all_distances(degrees: float, x: float, y: float, px: float, py: float) -> None:
    matrix = about(rotation(degrees), (x, y))
    assert np.allclose(matrix.point(x, y), (x, y), atol=1e-9)
    assert math.dist(matrix.point(px, py), (x, y)) == pytest.approx(math.dist((px, py), (x, y)), abs=1e-9)


def test_positive_degrees_turn_counter_clockwise_as_seen() -> None:
    x, y = rotation(90).point(1, 0)  # to the right of the origin …
    assert (round(x, 9), round(y, 9)) == (0, -1)  # … goes above it: y points down


@given(st.floats(-180, 180), st.floats(0.2, 3), NUMBER, NUMBER, st.integers(1, 90), st.integers(1, 90))
def test_exposed_area_is_what_shapely_finds(degrees: float, factor: float, x: float, y: float, width: int, height: int) -> None:
    matrix = rotation(degrees).then(scaling(factor, factor * 0.7)).then(translation(x, y))
    covered = shapely.Polygon(matrix.quad(Size(width, height).rect)).intersection(shapely.box(0, 0, 60, 40)).area
    assert exposed_share(matrix, Size(width, height), (0, 0, 60, 40)) == pytest.approx(1 - covered / 2400, abs=1e-6)


@given(st.integers(3, 8), st.floats(1, 40), NUMBER, NUMBER)
def test_clipping_a_convex_polygon(corners: int, radius: float, x: float, y: float) -> None:
    polygon = [(x + radius * math.cos(2 * math.pi * n / corners), y + radius * math.sin(2 * math.pi * n / corners)) for n in range(corners)]
    expected = shapely.Polygon(polygon).intersection(shapely.box(-10, -5, 20, 15)).area
    assert area(clip_polygon(polygon, (-10, -5, 20, 15))) == pytest.approx(expected, abs=1e-6)


@pytest.mark.parametrize(
    ("matrix", "lossless"),
    [
        (IDENTITY, True),
        (Matrix(-1, 0, 640), True),
        (Matrix(0, 1, 0, -1, 0, 480), True),
        (translation(3, -7), True),
        (translation(0.5, 0), False),
        (scaling(2, 2), False),
        (rotation(45), False),
        (Matrix(1, 0.001, 0), False),
    ],
)
def test_which_moves_keep_every_pixel(matrix: Matrix, lossless: bool) -> None:
    assert matrix.lossless() is lossless
    assert matrix.mirrors is (matrix.determinant < 0)
