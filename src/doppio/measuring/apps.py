from django.apps import AppConfig


class MeasuringConfig(AppConfig):
    name = "doppio.measuring"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.library import signals
        from doppio.measuring import labels
        from doppio.measuring.services import measure_in_force

        signals.text_changed.connect(labels.move_labels)
        signals.leaving.connect(labels.keep_quotes)
        signals.arrived.connect(labels.take_back)
        signals.settled.connect(measure_in_force)
