"""What the API says about workspaces and their members."""

from rest_framework import serializers as s

from doppio.library.models import Role

ROLES = [str(label) for label in Role.labels]


class WorkspaceSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    role = s.ChoiceField(choices=ROLES, help_text="The person's own.")
    documents = s.IntegerField()
    words = s.IntegerField()
    removed_at = s.DateTimeField(allow_null=True)


class WorkspaceHeldSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    role = s.ChoiceField(choices=ROLES)
    holds = s.DictField(child=s.IntegerField(), help_text="Things by name, and how many there are.")


class NamedSerializer(s.Serializer):
    name = s.CharField(max_length=1000)


class MemberSerializer(s.Serializer):
    id = s.IntegerField()
    username = s.CharField()
    role = s.ChoiceField(choices=ROLES)


class InviteSerializer(s.Serializer):
    username = s.CharField(max_length=1000)
    role = s.ChoiceField(choices=ROLES)


class InvitedSerializer(s.Serializer):
    member = MemberSerializer()
    link = s.CharField(allow_null=True, help_text="Signs in once, within twelve hours; null for who was known.")


class RoleSerializer(s.Serializer):
    role = s.ChoiceField(choices=ROLES)


class PasswordSerializer(s.Serializer):
    password = s.CharField(max_length=1000, trim_whitespace=False)
    present = s.CharField(max_length=1000, allow_blank=True, default="", trim_whitespace=False)
