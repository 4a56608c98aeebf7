from django.apps import AppConfig


class IndexingConfig(AppConfig):
    name = "doppio.indexing"
    default_auto_field = "django.db.models.BigAutoField"
