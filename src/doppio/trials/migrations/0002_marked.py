"""Trials say of which labels they are."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("trials", "0001_initial")]

    operations = [
        migrations.AddField(
            model_name="trialrecord", name="marked", field=models.PositiveBigIntegerField(default=0)
        ),
    ]
