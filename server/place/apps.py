from django.apps import AppConfig


class PlaceConfig(AppConfig):
    name = "place"

    def ready(self) -> None:
        from library.room import refuse_full_with

        from place.usage import refuse_full

        refuse_full_with(refuse_full)
