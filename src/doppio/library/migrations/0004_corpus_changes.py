"""Every statement that changes documents leaves a stamp, so that a question need not look at all of them."""

from django.db import migrations, models

STAMPED = """
CREATE SEQUENCE library_corpus_stamp;
CREATE FUNCTION library_corpus_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO library_corpuschange (workspace_id, slot, stamp)
    SELECT workspace_id, pg_backend_pid() % 64, nextval('library_corpus_stamp')
    FROM (SELECT DISTINCT workspace_id FROM changed) AS own ORDER BY workspace_id
    ON CONFLICT (workspace_id, slot) DO UPDATE SET stamp = EXCLUDED.stamp;
    RETURN NULL;
END $$;
CREATE TRIGGER library_document_came AFTER INSERT ON library_document REFERENCING NEW TABLE AS changed
FOR EACH STATEMENT EXECUTE FUNCTION library_corpus_changed();
CREATE TRIGGER library_document_changed AFTER UPDATE ON library_document REFERENCING NEW TABLE AS changed
FOR EACH STATEMENT EXECUTE FUNCTION library_corpus_changed();
CREATE TRIGGER library_document_went AFTER DELETE ON library_document REFERENCING OLD TABLE AS changed
FOR EACH STATEMENT EXECUTE FUNCTION library_corpus_changed();
"""
GONE = """
DROP TRIGGER library_document_came ON library_document;
DROP TRIGGER library_document_changed ON library_document;
DROP TRIGGER library_document_went ON library_document;
DROP FUNCTION library_corpus_changed();
DROP SEQUENCE library_corpus_stamp;
"""


class Migration(migrations.Migration):
    dependencies = [("library", "0003_texts_unpack_quickly")]
    operations = [
        migrations.CreateModel(
            name="CorpusChange",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("workspace_id", models.BigIntegerField()),
                ("slot", models.SmallIntegerField()),
                ("stamp", models.BigIntegerField()),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(
                        models.F("workspace_id"), models.F("slot"), name="corpus_change_slot_once"
                    )
                ],
            },
        ),
        migrations.RunSQL(STAMPED, GONE),
    ]
