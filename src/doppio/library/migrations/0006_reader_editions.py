"""Files that older readers read are read anew when they are imported again, although their bytes are the same."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0005_pictures")]
    operations = [
        migrations.AddField(
            model_name="sourcefile", name="edition", field=models.PositiveSmallIntegerField(default=0)
        ),
    ]
