"""Question sets, and marks on questions and labels."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("questions", "0001_initial"),
        ("library", "0002_roles"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="QuestionSet",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=120)),
                ("note", models.CharField(blank=True, max_length=300)),
                ("measured", models.BooleanField(default=True)),
                ("made_at", models.DateTimeField(auto_now_add=True)),
                ("workspace", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE,
                                                related_name="question_sets", to="library.workspace")),
            ],
            options={"ordering": ["pk"]},
        ),
        migrations.AddConstraint(
            model_name="questionset",
            constraint=models.UniqueConstraint(models.F("workspace"), models.F("name"), name="question_set_once"),
        ),
        migrations.AddField(
            model_name="question",
            name="set",
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE,
                                    related_name="questions", to="questions.questionset"),
        ),
        migrations.AddField(
            model_name="question", name="group", field=models.CharField(blank=True, default="", max_length=120),
            preserve_default=False,
        ),
        migrations.AddField(
            model_name="question", name="unanswerable", field=models.BooleanField(default=False)
        ),
        migrations.AddField(
            model_name="question", name="marked", field=models.PositiveBigIntegerField(default=0)
        ),
        migrations.AddField(
            model_name="answerspan",
            name="judge",
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+",
                                    to=settings.AUTH_USER_MODEL),
        ),
        migrations.AddField(
            model_name="answerspan", name="judged_at", field=models.DateTimeField(auto_now=True, null=True)
        ),
    ]  # fmt: skip
