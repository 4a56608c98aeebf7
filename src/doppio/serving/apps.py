from django.apps import AppConfig


class ServingConfig(AppConfig):
    name = "doppio.serving"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.library.signals import emptied, held, settled, tidying
        from doppio.serving import keeping, services

        settled.connect(services.build_published)
        tidying.connect(keeping.forget)
        held.connect(services.counted)
        emptied.connect(services.take_along)
