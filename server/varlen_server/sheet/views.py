"""Contact sheet, strip, tiles, ledger, forecasts and advice."""

from __future__ import annotations

from django.http import HttpResponse, StreamingHttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from varlen_server.datasets.serializers import MessageSerializer, PixelQuerySerializer
from varlen_server.editions.services import spec_of
from varlen_server.people.roles import ASKING
from varlen_server.previews import FOR_EVER, check_width, map_response, picture_response
from varlen_server.requests import body_of, query_of
from varlen_server.sheet import services
from varlen_server.sheet.serializers import (
    AdviceRequestSerializer,
    AdviceSerializer,
    ForecastRequestSerializer,
    ForecastSerializer,
    LedgerRequestSerializer,
    LedgerSerializer,
    LimitRequestSerializer,
    LimitSerializer,
    LooksRequestSerializer,
    MovesSerializer,
    SheetRequestSerializer,
    SheetSerializer,
    TilePixelSerializer,
    TraceSerializer,
    WorstRequestSerializer,
    WorstVariantSerializer,
)
from varlen_server.sheet.services import Bench
from varlen_server.sheet.tile_stream import sheet, tile_stream


class Sheet(APIView):
    roles = ASKING
    throttle_scope = "render"

    @extend_schema(request=SheetRequestSerializer, responses={200: SheetSerializer, 422: MessageSerializer}, operation_id="sheet_make")
    def post(self, request: Request) -> HttpResponse:
        """Labels, traces and, where a width is given, pictures of variants 1 … n of some images. A row's answer is always the same, so it is kept."""
        wish = body_of(request, SheetRequestSerializer)
        return _json(sheet(Bench(wish["dataset"], wish["document"]), wish["images"], wish["variants"], wish["width"]))


class Looks(APIView):
    roles = ASKING
    throttle_scope = "render"

    @extend_schema(
        request=LooksRequestSerializer, responses={(200, "application/octet-stream"): bytes, 422: MessageSerializer}, operation_id="looks_make"
    )
    def post(self, request: Request) -> StreamingHttpResponse:
        """Tiles as a stream of frames, as they are ready: labels with a quick look of each, then the exact pictures. Every frame is two
        32-bit little-endian lengths, a JSON head and a JPEG. The stream ends when the reader goes away."""
        wish = body_of(request, LooksRequestSerializer)
        frames = tile_stream(wish["dataset"], wish["documents"], wish["tiles"], wish["width"], wish["exact"])
        return StreamingHttpResponse(
            frames, content_type="application/octet-stream", headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
        )


class Tile(APIView):
    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="tiles_picture")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int, width: int) -> HttpResponse:
        """One variant's picture as JPEG, at most `width` px wide."""
        check_width(width)
        return picture_response(services.tile_picture(dataset, snapshot, pipeline, image, variant, width))


class TileMap(APIView):
    @extend_schema(responses={(200, "image/png"): bytes}, operation_id="tiles_map")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> HttpResponse:
        """One variant's label map as a gray PNG of the variant's own size."""
        return map_response(services.tile_label_map(dataset, snapshot, pipeline, image, variant))


class Trace(APIView):
    @extend_schema(responses=TraceSerializer, operation_id="tiles_trace")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> Response:
        """One variant's trace with the digest of its full-size pixels."""
        return Response(services.tile_trace(dataset, snapshot, pipeline, image, variant), headers={"Cache-Control": FOR_EVER})


class TilePixel(APIView):
    @extend_schema(parameters=[PixelQuerySerializer], responses=TilePixelSerializer, operation_id="tiles_pixel")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> Response:
        """A pixel of one variant, and the one of a source picture that it comes from."""
        at = query_of(request, PixelQuerySerializer)
        found = services.tile_pixel(dataset, snapshot, pipeline, image, variant, at["x"], at["y"])
        return Response(TilePixelSerializer(found).data, headers={"Cache-Control": FOR_EVER})


class TileMoves(APIView):
    @extend_schema(responses=MovesSerializer(many=True), operation_id="tiles_moves")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> Response:
        """The composed matrix of each resample of one variant."""
        found = services.tile_moves(dataset, snapshot, pipeline, image, variant)
        return Response(MovesSerializer(found, many=True).data, headers={"Cache-Control": FOR_EVER})


class Ledger(APIView):
    roles = ASKING
    throttle_scope = "count"

    @extend_schema(request=LedgerRequestSerializer, responses={200: LedgerSerializer, 422: MessageSerializer}, operation_id="ledger_make")
    def post(self, request: Request) -> Response:
        """What an edition of this would hold."""
        wish = body_of(request, LedgerRequestSerializer)
        return Response(Bench(wish["dataset"], wish["document"]).ledger(spec_of(wish)))


class Forecast(APIView):
    roles = ASKING
    throttle_scope = "count"

    @extend_schema(request=ForecastRequestSerializer, responses={200: ForecastSerializer, 422: MessageSerializer}, operation_id="forecast_make")
    def post(self, request: Request) -> HttpResponse:
        """What becomes of labels over many draws: losses by class and step, sizes, blank area."""
        wish = body_of(request, ForecastRequestSerializer)
        return _json(Bench(wish["dataset"], wish["document"]).forecast(wish["draws"]))


class ForecastLimit(APIView):
    roles = ASKING
    throttle_scope = "count"

    @extend_schema(request=LimitRequestSerializer, responses={200: LimitSerializer, 422: MessageSerializer}, operation_id="forecast_limit")
    def post(self, request: Request) -> HttpResponse:
        """The largest symmetric range of a step's parameter that loses no more than a share of the objects."""
        wish = body_of(request, LimitRequestSerializer)
        return _json(Bench(wish["dataset"], wish["document"]).limit(wish["parameter"], wish["lose_at_most"], wish["draws"]))


class Worst(APIView):
    roles = ASKING
    throttle_scope = "count"

    @extend_schema(
        request=WorstRequestSerializer, responses={200: WorstVariantSerializer(many=True), 422: MessageSerializer}, operation_id="worst_make"
    )
    def post(self, request: Request) -> Response:
        """The training images on which the pipeline does worst, the worst first, each with the variant that does it; from labels alone."""
        wish = body_of(request, WorstRequestSerializer)
        found = Bench(wish["dataset"], wish["document"]).worst(wish["by"], wish["count"])
        return Response(WorstVariantSerializer(found, many=True).data)


class Advice(APIView):
    roles = ASKING
    throttle_scope = "count"

    @extend_schema(request=AdviceRequestSerializer, responses={200: AdviceSerializer(many=True), 422: MessageSerializer}, operation_id="advice_make")
    def post(self, request: Request) -> HttpResponse:
        """What is allowed in this pipeline, on this dataset, but rarely intended."""
        wish = body_of(request, AdviceRequestSerializer)
        return _json(Bench(wish["dataset"], wish["document"]).advice())


def _json(text: bytes) -> HttpResponse:
    return HttpResponse(text, content_type="application/json")
