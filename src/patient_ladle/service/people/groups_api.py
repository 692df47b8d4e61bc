"""Groups of people over HTTP."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of

from . import groups
from .authentication import SignedIn
from .models import ROLES, PersonGroup


class PeopleGroupView(serializers.Serializer[Any]):
    name = serializers.CharField()
    role = serializers.ChoiceField(ROLES, help_text="What every member has at least.")
    note = serializers.CharField()
    members = serializers.SerializerMethodField(help_text="Names of people, in order.")
    created_at = serializers.DateTimeField()

    def get_members(self, group: PersonGroup) -> list[str]:
        return sorted(each.name for each in group.members.all())


class GroupEdit(StrictSerializer):
    role = serializers.CharField(max_length=16, required=False)
    note = serializers.CharField(max_length=400, required=False, allow_blank=True)
    members = serializers.ListField(
        child=serializers.CharField(max_length=64), required=False, max_length=10_000, help_text="All of them, by name."
    )


class GroupBody(GroupEdit):
    name = serializers.CharField(max_length=64)


class Groups(RoleView):
    needs = {"GET": "administrator", "POST": "administrator"}

    @extend_schema(operation_id="groups", responses=PeopleGroupView(many=True))
    def get(self, request: SignedIn) -> Response:
        return Response(PeopleGroupView(groups.groups(), many=True).data)

    @extend_schema(operation_id="add_group", request=GroupBody, responses={201: PeopleGroupView})
    def post(self, request: SignedIn) -> Response:
        return Response(PeopleGroupView(groups.add_group(**body_of(request, GroupBody))).data, status=201)


class OneGroup(RoleView):
    needs = {"GET": "administrator", "PATCH": "administrator", "DELETE": "administrator"}

    @extend_schema(operation_id="group", responses=PeopleGroupView)
    def get(self, request: SignedIn, name: str) -> Response:
        return Response(PeopleGroupView(groups.group_named(name)).data)

    @extend_schema(operation_id="edit_group", request=GroupEdit, responses=PeopleGroupView)
    def patch(self, request: SignedIn, name: str) -> Response:
        return Response(PeopleGroupView(groups.edit_group(name, **body_of(request, GroupEdit))).data)

    @extend_schema(operation_id="remove_group", request=None, responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        groups.remove_group(name)
        return Response(status=204)
