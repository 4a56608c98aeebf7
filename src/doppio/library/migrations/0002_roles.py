"""Members get roles, in the table that stands; a workspace that was removed may share its name with a later one."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0001_initial"), migrations.swappable_dependency(settings.AUTH_USER_MODEL)]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="Membership",
                    fields=[
                        ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False,
                                                   verbose_name="ID")),
                        ("workspace", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE,
                                                        related_name="memberships", to="library.workspace")),
                        ("user", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE,
                                                   related_name="memberships", to=settings.AUTH_USER_MODEL)),
                    ],
                    options={"db_table": "library_workspace_members"},
                ),
                migrations.AlterField(
                    model_name="workspace",
                    name="members",
                    field=models.ManyToManyField(related_name="workspaces", through="library.Membership",
                                                 to=settings.AUTH_USER_MODEL),
                ),
            ],
        ),
        migrations.AddField(
            model_name="membership",
            name="role",
            field=models.PositiveSmallIntegerField(
                choices=[(10, "reader"), (20, "judge"), (30, "editor"), (40, "owner")], default=40
            ),
        ),
        migrations.AddConstraint(
            model_name="membership",
            constraint=models.UniqueConstraint(models.F("workspace"), models.F("user"), name="member_once"),
        ),
        migrations.AddField(
            model_name="workspace", name="marked", field=models.PositiveBigIntegerField(default=0)
        ),
        migrations.AddField(model_name="workspace", name="removed_at", field=models.DateTimeField(null=True)),
        migrations.AlterField(model_name="workspace", name="name", field=models.CharField(max_length=120)),
        migrations.AddConstraint(
            model_name="workspace",
            constraint=models.UniqueConstraint(
                fields=["name"], condition=models.Q(removed_at=None), name="workspace_name_once"
            ),
        ),
    ]  # fmt: skip
