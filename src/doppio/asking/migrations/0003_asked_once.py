from django.db import migrations

# Of questions that were written down each time that they were shown, the latest stays.
ONCE = """
DELETE FROM asking_askedquestion earlier USING asking_askedquestion later
WHERE earlier.text = later.text AND earlier.workspace_id = later.workspace_id
  AND earlier.asked_by_id IS NOT DISTINCT FROM later.asked_by_id AND earlier.id < later.id
"""


class Migration(migrations.Migration):
    dependencies = [("asking", "0002_questions_without_traces")]
    operations = [migrations.RunSQL(ONCE, migrations.RunSQL.noop)]
