from django.apps import AppConfig


class IndexingConfig(AppConfig):
    name = "doppio.indexing"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.indexing import imports
        from doppio.library import signals

        signals.still_needed.connect(imports.still_needed)
