"""What the API answers where something is wrong."""

from drf_spectacular.utils import OpenApiResponse
from rest_framework import serializers as s


class ProblemSerializer(s.Serializer):
    detail = s.CharField()


PROBLEM = OpenApiResponse(ProblemSerializer)
