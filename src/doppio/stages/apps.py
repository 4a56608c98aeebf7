from django.apps import AppConfig


class StagesConfig(AppConfig):
    name = "doppio.stages"
