from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "doppio.library"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from doppio.library import carried, pictures, signals, taking_back, workspaces

        carried.connect()
        taking_back.connect()
        signals.tidying.connect(workspaces.throw_away)
        signals.tidying.connect(pictures.forget_asked)
