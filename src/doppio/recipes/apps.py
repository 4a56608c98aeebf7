from django.apps import AppConfig


class RecipesConfig(AppConfig):
    name = "doppio.recipes"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.jobs.signals import looking_through
        from doppio.recipes.builds import look_through

        looking_through.connect(look_through)
