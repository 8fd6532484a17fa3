from django.apps import AppConfig


class StudioConfig(AppConfig):
    name = "studio"

    def ready(self) -> None:
        from library.room import refuse_full_with

        from studio.usage import refuse_full

        refuse_full_with(refuse_full)
