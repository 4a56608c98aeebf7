from django.apps import AppConfig


class AskingConfig(AppConfig):
    name = "doppio.asking"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.asking.services import forget_asked
        from doppio.library import signals

        signals.tidying.connect(forget_asked)
