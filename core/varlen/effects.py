"""The old name of `varlen.model.effects`, for step files written for version 0.1. Use the new one."""

from varlen.model.effects import *  # noqa: F403
from varlen.model.effects import PixelOperation

#: What `PixelOperation` was called.
Detail = PixelOperation
