from django.apps import AppConfig


class QuestionsConfig(AppConfig):
    name = "doppio.questions"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.library import signals
        from doppio.questions import asked, carried, labels, services, taking_back

        signals.text_changed.connect(labels.move_labels)
        signals.leaving.connect(labels.keep_quotes)
        signals.arrived.connect(labels.take_back)
        signals.tidying.connect(asked.forget_asked)
        signals.held.connect(services.counted)
        signals.still_needed.connect(services.pictures_kept)
        taking_back.connect()
        carried.connect()
