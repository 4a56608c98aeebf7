from django.apps import AppConfig


class RecipesConfig(AppConfig):
    name = "doppio.recipes"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.jobs.signals import looking_through
        from doppio.library.signals import emptied, held, made, tidying
        from doppio.recipes import builds, carried, carried_indexes, fitted, services, taking_back, written

        looking_through.connect(builds.look_through)
        made.connect(services.begin_with)
        held.connect(services.counted)
        emptied.connect(services.take_along)
        tidying.connect(written.forget_texts)
        tidying.connect(written.queue_writing)
        fitted.connect()
        carried.connect()
        carried_indexes.connect()
        taking_back.connect()
