from django.apps import AppConfig


class EditingConfig(AppConfig):
    name = "editing"
