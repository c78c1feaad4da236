"""The old name of `varlen.model.geometry`, for step files written for version 0.1. Use the new one."""

from varlen.model.geometry import *  # noqa: F403
from varlen.model.geometry import IDENTITY, NEAREST, Matrix, Point, Rect, Size  # noqa: F401
