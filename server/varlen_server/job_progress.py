"""How the record of a job learns how far it is, and the job that it is to stop."""

from __future__ import annotations

import math
import time
from typing import Any

from django.db import OperationalError
from django.db.models import QuerySet

#: Between two writes of progress, seconds.
OFTEN = 0.3


class Watch:
    """Writes what a job says of itself to its record, a few times a second at most, and reads each time whether to stop."""

    def __init__(self, record: QuerySet[Any]) -> None:
        """record: the one row; its `stop_asked` says whether somebody wants the job to end."""
        self.record = record
        self.last = -math.inf
        self.asked = False

    def note(self, at_once: bool = False, **values: Any) -> bool:
        """Write these values, unless some were written just now; at_once: even then. Whether they were written."""
        now = time.monotonic()
        if now - self.last <= OFTEN and not at_once:
            return False
        self.last = now
        try:
            self.record.update(**values)
            self.asked = not self.record.filter(stop_asked=False).exists()
        except OperationalError:
            return False  # the database is away for a moment; the work continues all the same
        return True

    def stop(self) -> bool:
        """Whether somebody asked to stop, or deleted the record."""
        return self.asked
