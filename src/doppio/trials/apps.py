from django.apps import AppConfig


class TrialsConfig(AppConfig):
    name = "doppio.trials"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.library.signals import held, settled
        from doppio.recipes.signals import in_force
        from doppio.trials import carried, services

        carried.connect()
        settled.connect(services.measure_in_force)
        held.connect(services.counted)
        in_force.connect(services.measure_unless_measured)
