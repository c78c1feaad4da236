"""Load the night moth survey once: the dataset, and the pipeline that goes with it."""

from __future__ import annotations

import json
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser
from varlen.demo.write import write_demo

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.pixel_scan import scan_pixels
from varlen_server.datasets.services import import_dataset
from varlen_server.pipelines.models import Pipeline
from varlen_server.pipelines.services import create

NAME = "Night moth survey"


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--images", type=int, default=60)

    def handle(self, *args: Any, **options: Any) -> None:
        folder = settings.STATE / "demo" / "night-moth-survey"
        if not folder.exists():
            folder.parent.mkdir(parents=True, exist_ok=True)
            self.stdout.write(f"rendering the demo dataset, {options['images']} images …")
            write_demo(folder, options["images"])
        Dataset.objects.filter(ready=False, imports=None).delete()  # a start that was broken off
        if not Dataset.objects.filter(name=NAME).exists():
            scan_pixels(import_dataset(folder, NAME, source=str(folder)))
        if not Pipeline.objects.exists():
            create(json.loads((folder / "pipelines" / "lamp-drift.varlen.json").read_text()))
