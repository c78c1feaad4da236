"""Every address of the server: the API, and the screens for all others."""

from __future__ import annotations

import json

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.urls import path, re_path
from django.utils.html import escape
from django.views.generic import RedirectView
from django.views.static import serve
from drf_spectacular.views import SpectacularAPIView

from varlen_server.datasets import views as datasets
from varlen_server.editions import views as editions
from varlen_server.evidence import views as evidence
from varlen_server.metrics import health, metrics
from varlen_server.people import views as people
from varlen_server.pipelines import views as pipelines
from varlen_server.sheet import views as sheet

_TILE = "api/tiles/<int:dataset>/<slug:snapshot>/<slug:pipeline>/<int:image>/<int:variant>"


def handbook(request: HttpRequest, page: str = "") -> HttpResponseBase:
    """A file of the handbook."""
    if not (settings.HANDBOOK / "index.html").exists():
        return HttpResponse("The handbook is not built yet: run 'make docs'.", status=503, content_type="text/plain")
    answer = serve(request, page or "index.html", document_root=str(settings.HANDBOOK))
    return with_nonce(request, answer) if answer.get("Content-Type", "").startswith("text/html") else answer


def with_nonce(request: HttpRequest, answer: HttpResponseBase) -> HttpResponse:
    """A page of ours whose own scripts may run."""
    text = b"".join(answer).decode()
    text = text.replace("<script", f'<script nonce="{request.nonce}"')  # type: ignore[attr-defined]
    return HttpResponse(text, content_type=answer["Content-Type"], headers={"Cache-Control": "no-cache"})


def screens(request: HttpRequest) -> HttpResponse:
    """The page that holds all screens, for whatever address; all it says beforehand is who is asking."""
    page = settings.WEB / "index.html"
    if not page.exists():
        return HttpResponse("The screens are not built yet: run 'make start'.", status=503, content_type="text/plain")
    visitor = getattr(request, "visitor", None)
    session = {"sign_in": settings.SIGN_IN, "name": visitor.name if visitor else "", "role": visitor.role if visitor else ""}
    text = page.read_text().replace("</head>", f'<meta name="varlen-session" content="{escape(json.dumps(session))}"></head>', 1)
    return HttpResponse(text, content_type="text/html", headers={"Cache-Control": "no-store" if settings.SIGN_IN else "no-cache"})


urlpatterns = [
    path("help", RedirectView.as_view(url="/help/")),
    path("help/", handbook),
    path("help/<path:page>", handbook),
    path("healthz", health),
    path("metrics", metrics),
    path("api/session", people.Session.as_view()),
    path("api/session/password", people.Password.as_view()),
    path("api/invitations", people.InvitationList.as_view()),
    path("api/invitations/<int:pk>", people.InvitationDetail.as_view()),
    path("api/invitations/open", people.InvitationOpen.as_view()),
    path("api/invitations/accept", people.InvitationAccept.as_view()),
    path("api/people", people.People.as_view()),
    path("api/people/<int:pk>", people.Person.as_view()),
    path("api/tokens", people.TokenList.as_view()),
    path("api/tokens/<int:pk>", people.TokenDetail.as_view()),
    path("api/log", people.Log.as_view()),
    path("api/schema", SpectacularAPIView.as_view()),
    path("api/datasets", datasets.DatasetList.as_view()),
    path("api/imports", datasets.ImportList.as_view()),
    path("api/imports/<int:pk>", datasets.ImportDetail.as_view()),
    path("api/imports/<int:pk>/files", datasets.ImportFiles.as_view()),
    path("api/imports/<int:pk>/recognise", datasets.ImportRecognise.as_view()),
    path("api/imports/<int:pk>/start", datasets.ImportStart.as_view()),
    path("api/imports/<int:pk>/example.jpg", datasets.ImportExample.as_view()),
    path("api/formats", datasets.Formats.as_view()),
    path("api/folders", datasets.Folders.as_view()),
    path("api/datasets/<int:pk>", datasets.DatasetDetail.as_view()),
    path("api/datasets/<int:pk>/rows", datasets.DatasetRows.as_view()),
    path("api/datasets/<int:pk>/overview", datasets.DatasetOverview.as_view()),
    path("api/datasets/<int:pk>/images", datasets.DatasetImages.as_view()),
    path("api/datasets/<int:pk>/findings", datasets.DatasetFindings.as_view()),
    path("api/datasets/<int:pk>/marks", datasets.DatasetMarks.as_view()),
    path("api/datasets/<int:pk>/edits", datasets.DatasetEdits.as_view()),
    path("api/images/<int:pk>/map.png", datasets.ImageMap.as_view()),
    path("api/images/<int:pk>/pixel", datasets.ImagePixel.as_view()),
    path("api/images/<int:pk>", datasets.ImageFacts.as_view()),
    path("api/pictures/<slug:sha256>/<int:width>.jpg", datasets.Picture.as_view()),
    path("api/steps", pipelines.Steps.as_view()),
    path("api/starting-points", pipelines.StartingPoints.as_view()),
    path("api/pipelines", pipelines.PipelineList.as_view()),
    path("api/pipelines/<int:pk>", pipelines.LatestRevision.as_view()),
    path("api/pipelines/<int:pk>/revisions", pipelines.Revisions.as_view()),
    path("api/revisions/<int:pk>", pipelines.RevisionName.as_view()),
    path("api/compare", pipelines.Compare.as_view()),
    path("api/forecast", sheet.Forecast.as_view()),
    path("api/forecast/limit", sheet.ForecastLimit.as_view()),
    path("api/advice", sheet.Advice.as_view()),
    path("api/worst", sheet.Worst.as_view()),
    path("api/sheet", sheet.Sheet.as_view()),
    path("api/looks", sheet.Looks.as_view()),
    path("api/ledger", sheet.Ledger.as_view()),
    path(f"{_TILE}/<int:width>.jpg", sheet.Tile.as_view()),
    path(f"{_TILE}/map.png", sheet.TileMap.as_view()),
    path(f"{_TILE}/pixel", sheet.TilePixel.as_view()),
    path(f"{_TILE}/moves", sheet.TileMoves.as_view()),
    path(f"{_TILE}/trace", sheet.Trace.as_view()),
    path("api/editions", editions.EditionList.as_view()),
    path("api/editions/<int:pk>", editions.EditionDetail.as_view()),
    path("api/editions/estimate", editions.EditionEstimate.as_view()),
    path("api/editions/<int:pk>/cancel", editions.EditionCancel.as_view()),
    path("api/editions/<int:pk>/resume", editions.EditionResume.as_view()),
    path("api/editions/<int:pk>/check", editions.EditionCheck.as_view()),
    path("api/editions/<int:pk>/copy", editions.EditionCopy.as_view()),
    path("api/editions/<int:pk>/images", editions.EditionImages.as_view()),
    path("api/editions/<int:pk>/images/<int:row>", editions.EditionImage.as_view()),
    path("api/editions/<int:pk>/images/<int:row>/recreate", editions.EditionRecreate.as_view()),
    path("api/editions/<int:pk>/pictures/<int:row>/<slug:digest>/<int:width>.jpg", editions.EditionPicture.as_view()),
    path("api/editions/<int:pk>/scores", editions.EditionScores.as_view()),
    path("api/editions/<int:pk>/compare/<int:other>", editions.EditionCompare.as_view()),
    path("api/trials", editions.Trials.as_view()),
    path("api/inquiries", evidence.InquiryList.as_view()),
    path("api/inquiries/<int:pk>", evidence.InquiryDetail.as_view()),
    path("api/inquiries/<int:pk>/cancel", evidence.InquiryCancel.as_view()),
    path("api/inquiries/<int:pk>/resume", evidence.InquiryResume.as_view()),
    path("api/matches", evidence.Matches.as_view()),
    path("api/matches/place", evidence.PlaceSteps.as_view()),
    path("api/probes", evidence.Probes.as_view()),
    path("api/editions/<int:pk>/download", editions.EditionDownload.as_view()),
    re_path(r"^(?!api/|static/|assets/|healthz|metrics).*$", screens),
]

handler400 = "varlen_server.errors.refused_by_django"
handler404 = "varlen_server.errors.not_here"
handler500 = "varlen_server.errors.went_wrong"
