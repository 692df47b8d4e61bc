"""Faults of the console's own, as browsers meet them: they belong into the log like every other."""

from __future__ import annotations

import logging
import textwrap

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of
from patient_ladle.service.people.authentication import SignedIn

log = logging.getLogger("ladle.console")


class FaultBody(StrictSerializer):
    message = serializers.CharField(max_length=500, help_text="What the browser says went wrong.")
    page = serializers.CharField(max_length=200, help_text="The page's address, without the service's.")
    stack = serializers.CharField(max_length=7_000, allow_blank=True, default="", help_text="Where in the console's code.")


class ConsoleFaults(RoleView):
    needs = {"POST": "reader"}

    @extend_schema(operation_id="tell_console_fault", request=FaultBody, responses={204: None})
    def post(self, request: SignedIn) -> Response:
        fault = body_of(request, FaultBody)
        words = (fault["message"].replace("\n", " "), fault["page"].replace("\n", " "), request.user.name)
        log.error("%s on %s, seen by %s\n%s", *words, textwrap.indent(fault["stack"], "    | "))
        return Response(status=204)
