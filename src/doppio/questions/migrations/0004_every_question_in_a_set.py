"""After all have got one: a table that was just written to cannot be altered in the same step."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("questions", "0003_first_sets")]

    operations = [
        migrations.AlterField(
            model_name="question",
            name="set",
            field=models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="questions",
                                    to="questions.questionset"),
        ),
    ]  # fmt: skip
