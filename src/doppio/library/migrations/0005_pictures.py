"""Documents know the pictures of their files; those that are there learn of them when they are imported anew."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0004_corpus_changes")]
    operations = [
        migrations.AddField(model_name="document", name="pictures", field=models.JSONField(default=list)),
    ]
