"""What begins with the server."""

from django.apps import AppConfig


class PeopleConfig(AppConfig):
    name = "varlen_server.people"
    label = "people"

    def ready(self) -> None:
        from varlen_server.people import services

        services.begin()
