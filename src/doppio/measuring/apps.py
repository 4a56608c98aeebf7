from django.apps import AppConfig


class MeasuringConfig(AppConfig):
    name = "doppio.measuring"
    default_auto_field = "django.db.models.BigAutoField"
