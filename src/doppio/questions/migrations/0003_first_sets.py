"""Every question gets its set; whether nothing answers it is said, and no longer guessed from its labels."""

from django.db import migrations


def give_sets(apps, schema_editor):
    """Every workspace's questions become its first set; those without any label were marked as unanswerable."""
    question, question_set = (apps.get_model("questions", name) for name in ("Question", "QuestionSet"))
    for workspace in question.objects.order_by().values_list("workspace", flat=True).distinct():
        made = question_set.objects.create(workspace_id=workspace, name="Questions")
        question.objects.filter(workspace=workspace).update(set=made)
    labelled = apps.get_model("questions", "AnswerSpan").objects.values("question")
    question.objects.exclude(pk__in=labelled).update(unanswerable=True)


class Migration(migrations.Migration):
    dependencies = [("questions", "0002_sets")]

    operations = [migrations.RunPython(give_sets, migrations.RunPython.noop)]
