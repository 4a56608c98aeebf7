from django.apps import AppConfig


class TrialsConfig(AppConfig):
    name = "doppio.trials"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.library import events
        from doppio.library.history import kept_blind
        from doppio.library.signals import held, settled, tidying
        from doppio.recipes.signals import in_force
        from doppio.trials import carried, gates, services
        from doppio.trials.signals import recorded

        carried.connect()
        kept_blind((events.PASSAGE_JUDGED, events.JUDGEMENT_TAKEN_BACK, events.PASSAGE_SETTLED))
        settled.connect(services.measure_in_force)
        settled.connect(gates.look_after_change)
        tidying.connect(gates.look_in_time)
        recorded.connect(gates.looked_at)
        held.connect(services.counted)
        in_force.connect(services.measure_unless_measured)
