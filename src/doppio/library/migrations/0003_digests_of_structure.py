"""Digests now cover structure as well as text; chunks are cut again from the records."""

from django.db import migrations

from doppio.core.fingerprint import text_digest
from doppio.core.text.document import Block, Document
from doppio.core.text.outline import sections_of


def digests(apps, schema_editor):
    apps.get_model("library", "Chunking").objects.all().delete()
    documents = apps.get_model("library", "Document").objects.all()
    for row in documents.iterator(chunk_size=100):
        blocks = tuple(Block(*block) for block in row.blocks)
        core = Document(row.name, row.title, row.text, blocks, sections_of(row.text, blocks), row.metadata)
        row.found, row.digest, row.text_digest = row.blocks, core.digest, text_digest(row.text)
        row.save(update_fields=["found", "digest", "text_digest"])


class Migration(migrations.Migration):
    dependencies = [("library", "0002_documents_in_depth")]
    operations = [migrations.RunPython(digests, migrations.RunPython.noop)]
