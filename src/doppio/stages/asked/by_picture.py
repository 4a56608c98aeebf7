"""Pictures to ask by: dropped, pasted, or cut out of a page."""

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers as s
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import DocumentError
from doppio.core.formats.archive import too_large
from doppio.library.access import workspace_of
from doppio.library.models import Role
from doppio.library.pictures import asked, keep_asked, picture_answer
from doppio.library.problems import PROBLEM

MOST_BYTES = 20 << 20


class PictureFileSerializer(s.Serializer):
    file = s.FileField(help_text="PNG, JPEG, WebP or SVG; its name ends so.")


class AskedPictureSerializer(s.Serializer):
    picture = s.CharField(help_text="By which questions name it.")


class AskedPicturesView(APIView):
    parser_classes = [MultiPartParser]
    # Who may ask may ask by a picture.
    least = {"POST": Role.READER}

    @extend_schema(
        request={"multipart/form-data": PictureFileSerializer},
        responses={201: AskedPictureSerializer, 400: PROBLEM},
        operation_id="askByPicture",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Bring a picture to ask by; it is kept for a month after it was brought last."""
        workspace_of(request)
        given = PictureFileSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        file = given.validated_data["file"]
        if file.size > MOST_BYTES:
            raise DocumentError(f"{file.name}: {too_large(file.size, MOST_BYTES)}")
        return Response({"picture": keep_asked(file.read(), file.name)}, status=201)


class AskedPictureView(APIView):
    @extend_schema(
        responses={
            (200, "image/png"): OpenApiTypes.BINARY, (200, "image/jpeg"): OpenApiTypes.BINARY, 400: PROBLEM,
        },
        operation_id="askedPicture",
    )  # fmt: skip
    def get(self, request: Request, workspace: int, picture: str) -> HttpResponse:
        """A picture that was brought to ask by."""
        workspace_of(request)
        return picture_answer(asked(checked(picture)))


def checked(picture: str) -> str:
    """What names a picture.

    Raises
    ------
    DocumentError
        If it names none.
    """
    if len(picture) != 40 or set(picture) - set("0123456789abcdef"):
        raise DocumentError("picture: names no picture; it is what the upload of one answers")
    return picture
