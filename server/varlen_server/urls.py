"""Every address of the server: the API, and the screens for all others."""

from __future__ import annotations

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.urls import path, re_path
from drf_spectacular.views import SpectacularAPIView

from varlen_server.datasets import intake_views as intakes
from varlen_server.datasets import views as datasets
from varlen_server.editions import looking, trials
from varlen_server.editions import views as editions
from varlen_server.pipelines import views as pipelines
from varlen_server.sheet import views as sheet

_TILE = "api/tiles/<int:dataset>/<slug:snapshot>/<slug:pipeline>/<int:image>/<int:variant>"


def screens(request: HttpRequest) -> HttpResponseBase:
    """The page that holds all screens."""
    page = settings.WEB / "index.html"
    if not page.exists():
        return HttpResponse("The screens are not built yet: run 'make start'.", status=503, content_type="text/plain")
    return FileResponse(page.open("rb"), content_type="text/html", headers={"Cache-Control": "no-cache"})


urlpatterns = [
    path("api/schema", SpectacularAPIView.as_view()),
    path("api/datasets", datasets.DatasetList.as_view()),
    path("api/intakes", intakes.IntakeList.as_view()),
    path("api/intakes/<int:pk>", intakes.IntakeDetail.as_view()),
    path("api/intakes/<int:pk>/files", intakes.IntakeFiles.as_view()),
    path("api/intakes/<int:pk>/recognise", intakes.IntakeRecognise.as_view()),
    path("api/intakes/<int:pk>/start", intakes.IntakeStart.as_view()),
    path("api/intakes/<int:pk>/example.jpg", intakes.IntakeExample.as_view()),
    path("api/folders", intakes.Folders.as_view()),
    path("api/datasets/<int:pk>/rows", datasets.DatasetRows.as_view()),
    path("api/datasets/<int:pk>/overview", datasets.DatasetOverview.as_view()),
    path("api/datasets/<int:pk>/images", datasets.DatasetImages.as_view()),
    path("api/datasets/<int:pk>/findings", datasets.DatasetFindings.as_view()),
    path("api/datasets/<int:pk>/marks", datasets.DatasetMarks.as_view()),
    path("api/datasets/<int:pk>/edits", datasets.DatasetEdits.as_view()),
    path("api/images/<int:pk>/map.png", datasets.ImageMap.as_view()),
    path("api/images/<int:pk>", datasets.ImageFacts.as_view()),
    path("api/pictures/<slug:sha256>/<int:width>.jpg", datasets.Picture.as_view()),
    path("api/steps", pipelines.Steps.as_view()),
    path("api/pipelines", pipelines.PipelineList.as_view()),
    path("api/pipelines/<int:pk>", pipelines.LatestRevision.as_view()),
    path("api/pipelines/<int:pk>/revisions", pipelines.Revisions.as_view()),
    path("api/revisions/<int:pk>", pipelines.RevisionName.as_view()),
    path("api/compare", pipelines.Compare.as_view()),
    path("api/forecast", sheet.Forecast.as_view()),
    path("api/forecast/limit", sheet.ForecastLimit.as_view()),
    path("api/notes", sheet.Notes.as_view()),
    path("api/sheet", sheet.Sheet.as_view()),
    path("api/strip", sheet.Strip.as_view()),
    path("api/ledger", sheet.Ledger.as_view()),
    path(f"{_TILE}/<int:width>.jpg", sheet.Tile.as_view()),
    path(f"{_TILE}/map.png", sheet.TileMap.as_view()),
    path(f"{_TILE}/trace", sheet.Trace.as_view()),
    path("api/editions", editions.EditionList.as_view()),
    path("api/editions/<int:pk>", editions.EditionDetail.as_view()),
    path("api/editions/estimate", editions.EditionEstimate.as_view()),
    path("api/editions/<int:pk>/cancel", editions.EditionCancel.as_view()),
    path("api/editions/<int:pk>/resume", editions.EditionResume.as_view()),
    path("api/editions/<int:pk>/check", editions.EditionCheck.as_view()),
    path("api/editions/<int:pk>/images", looking.EditionImages.as_view()),
    path("api/editions/<int:pk>/images/<int:row>", looking.EditionImage.as_view()),
    path("api/editions/<int:pk>/images/<int:row>/recreate", looking.EditionRecreate.as_view()),
    path("api/editions/<int:pk>/pictures/<int:row>/<slug:digest>/<int:width>.jpg", looking.EditionPicture.as_view()),
    path("api/editions/<int:pk>/scores", looking.EditionScores.as_view()),
    path("api/editions/<int:pk>/compare/<int:other>", looking.EditionCompare.as_view()),
    path("api/trials", trials.Trials.as_view()),
    path("api/editions/<int:pk>/download", editions.EditionDownload.as_view()),
    re_path(r"^(?!api/|static/|assets/).*$", screens),
]
