from django.apps import AppConfig


class RecipesConfig(AppConfig):
    name = "doppio.recipes"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.jobs.signals import looking_through
        from doppio.library.signals import held, made
        from doppio.recipes import builds, services

        looking_through.connect(builds.look_through)
        made.connect(services.begin_with)
        held.connect(services.counted)
