"""Workers over HTTP."""

from __future__ import annotations

from typing import Any

from django.db.models import Count, Q
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of
from patient_ladle.service.ledger import registration
from patient_ladle.service.ledger.models import Worker
from patient_ladle.service.ledger.states import RUNNING
from patient_ladle.service.people.authentication import SignedIn


class WorkerView(serializers.Serializer[Any]):
    id = serializers.CharField()
    host = serializers.CharField()
    pid = serializers.IntegerField()
    max_runs = serializers.IntegerField()
    running = serializers.IntegerField(default=0)
    draining = serializers.BooleanField(help_text="It takes no more runs.")
    version = serializers.CharField()
    clock_seconds = serializers.FloatField(help_text="How far its clock was from the database's when it started.")
    started_at = serializers.DateTimeField()


class DrainBody(StrictSerializer):
    draining = serializers.BooleanField(default=True, help_text="False: it takes runs again.")


class Workers(RoleView):
    needs = {"GET": "author"}

    @extend_schema(operation_id="workers", responses=WorkerView(many=True))
    def get(self, request: SignedIn) -> Response:
        busy = Count("runs", filter=Q(runs__state=RUNNING))
        found = Worker.objects.filter(gone_at=None).annotate(running=busy).order_by("started_at")
        return Response(WorkerView(found, many=True).data)


class WorkerDrain(RoleView):
    needs = {"POST": "administrator"}

    @extend_schema(operation_id="drain_worker", request=DrainBody, responses=WorkerView)
    def post(self, request: SignedIn, number: str) -> Response:
        return Response(WorkerView(registration.drain(number, body_of(request, DrainBody)["draining"])).data)
