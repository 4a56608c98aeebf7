from django.apps import AppConfig


class AskingConfig(AppConfig):
    name = "doppio.asking"
    default_auto_field = "django.db.models.BigAutoField"
