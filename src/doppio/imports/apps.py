from django.apps import AppConfig


class ImportsConfig(AppConfig):
    name = "doppio.imports"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.imports import services
        from doppio.library import signals

        signals.still_needed.connect(services.still_needed)
        signals.tidying.connect(services.tidy)
