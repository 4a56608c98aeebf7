from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "doppio.library"
    default_auto_field = "django.db.models.BigAutoField"
