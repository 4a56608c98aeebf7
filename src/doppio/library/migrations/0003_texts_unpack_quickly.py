"""Texts of documents are packed so that they unpack in a fraction of the time; those that are there stay as they are."""

from django.db import migrations

# A server that was built without it keeps its own way.
PACKED = """
DO $$ BEGIN
    ALTER TABLE library_document ALTER COLUMN text SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN NULL;
END $$
"""


class Migration(migrations.Migration):
    dependencies = [("library", "0002_roles")]
    operations = [migrations.RunSQL(PACKED, migrations.RunSQL.noop)]
