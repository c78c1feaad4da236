"""Load the night moth survey once: the dataset, and the pipelines that go with it; with --more what the other pages show, too."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser
from varlen.demo.cached_demo import survey_in
from varlen.demo.variants import write_field_night, write_variant
from varlen.demo.write import write_demo
from varlen.pipeline.starting_points import STARTING_POINTS

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.services import import_dataset
from varlen_server.datasets.tasks import scan_pixels
from varlen_server.pipelines.models import Pipeline, create

NAME = "Night moth survey"
#: Starting points that stand on the pipelines' page from the first day.
ALONGSIDE = ("detection", "pictures from above")


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--images", type=int, default=60)
        parser.add_argument("--more", action="store_true", help="only the smaller sets beside the survey, in the background")

    def handle(self, *args: Any, **options: Any) -> None:
        survey = settings.STATE / "demo" / "night-moth-survey"
        if options["more"]:
            self._more(survey)
            return
        survey_in(survey, options["images"], self._say)
        Dataset.objects.filter(ready=False, imports=None).delete()  # a start that was broken off
        if not Dataset.objects.filter(name=NAME).exists():
            self.stdout.write("bringing the demo dataset in …")
            scan_pixels(import_dataset(survey, NAME, source=str(survey)))
        if not Pipeline.objects.exists():
            create(json.loads((survey / "pipelines" / "lamp-drift.varlen.json").read_text()))
            for point in STARTING_POINTS:
                if point.task in ALONGSIDE:
                    create(point.document)

    def _say(self, line: str) -> None:
        self.stdout.write(line)
        self.stdout.flush()

    def _more(self, survey: Path) -> None:
        """Sets of other kinds, one after another, while nobody needs the processor."""
        os.nice(19)
        with contextlib.suppress(AttributeError, OSError):
            os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
        folder = survey.parent
        sets: dict[str, tuple[str, Callable[[Path], None]]] = {
            "Moths from above, turned boxes": ("turned-boxes", lambda out: write_variant(survey, out, "turned-boxes")),
            "Moths by species": ("by-species", lambda out: write_variant(survey, out, "class-folders")),
            "Survey with flaws": ("with-flaws", self._write_flawed),
            "Field night": ("field-night", write_field_night),
        }
        for name, (place, write) in sets.items():
            out = folder / place
            if Dataset.objects.filter(name=name).exists() or (folder / f".{place}-was-here").exists():
                continue
            if not out.exists():
                write(out)
            scan_pixels(import_dataset(out, name, source=str(out)))
            (folder / f".{place}-was-here").touch()  # who deletes one does not want it back

    def _write_flawed(self, out: Path) -> None:
        part = out.with_name(f".{out.name}-part")
        write_demo(part, images=15, workers=1)
        write_variant(part, out, "flawed")
