"""Records of the version that had other apps: their tables get the names that they have now, and nothing is lost."""

from django.db import connection, transaction
from django.db.migrations.recorder import MigrationRecorder

from doppio.core.errors import DoppioError

LAST = {("library", "0006_offsets_as_given"), ("indexing", "0003_index_engines"), ("asking", "0003_asked_once"),
        ("measuring", "0003_documents_of_a_trial")}  # fmt: skip
GONE = ("indexing", "asking", "measuring")
MOVED = {
    "library_chunking": "recipes_chunking",
    "indexing_index": "recipes_index",
    "asking_recipeversion": "recipes_recipeversion",
    "indexing_job": "jobs_job",
    "indexing_measuredrate": "jobs_measuredrate",
    "indexing_import": "imports_import",
    "indexing_importedfile": "imports_importedfile",
    "measuring_question": "questions_question",
    "measuring_answerspan": "questions_answerspan",
    "asking_askedquestion": "questions_askedquestion",
    "measuring_trialrecord": "trials_trialrecord",
    "measuring_trialrow": "trials_trialrow",
    "indexing_survey": "trials_survey",
}
NOW = ("library", "jobs", "imports", "recipes", "questions", "trials")


@transaction.atomic
def carry_over() -> bool:
    """Give tables of the older apps their present names; whether there were any.

    Raises
    ------
    DoppioError
        If they are of a version that is older still.
    """
    applied = MigrationRecorder(connection).applied_migrations()
    if not any(app in GONE for app, _ in applied):
        return False
    lacking = sorted(f"{app} {name}" for app, name in LAST if (app, name) not in applied)
    if lacking:
        raise DoppioError(
            f"The database is of a version that this one cannot take over ({', '.join(lacking)} not applied). Start "
            "it once with the version in between, which brings it up to date."
        )
    with connection.cursor() as cursor:
        for before, now in MOVED.items():
            cursor.execute(f"ALTER TABLE {before} RENAME TO {now}")
            cursor.execute(f"ALTER SEQUENCE IF EXISTS {before}_id_seq RENAME TO {now}_id_seq")
            app, model = now.split("_")
            old_app, _ = before.split("_")
            cursor.execute(
                "UPDATE django_content_type SET app_label = %s WHERE app_label = %s AND model = %s",
                [app, old_app, model],
            )
        cursor.execute("DELETE FROM django_migrations WHERE app = ANY(%s)", [["library", *GONE]])
    for app in NOW:
        MigrationRecorder(connection).record_applied(app, "0001_initial")
    return True
