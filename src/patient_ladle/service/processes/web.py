"""The web process: gunicorn with threads, the Django application in it."""

from __future__ import annotations

from typing import Any

from gunicorn.app.base import BaseApplication

from .parent import end_with_parent


class _Web(BaseApplication):
    def __init__(self, options: dict[str, Any]) -> None:
        self.options = options
        super().__init__()

    def load_config(self) -> None:
        for key, value in self.options.items():
            self.cfg.set(key, value)

    def load(self) -> Any:
        from patient_ladle.service.wsgi import application

        return application


def main(listen: str, port: int) -> None:
    """Serve until asked to stop."""
    end_with_parent()
    _Web(
        {
            "bind": f"{listen}:{port}",
            "workers": 2,
            "threads": 16,
            "worker_class": "gthread",
            "preload_app": True,  # loaded once; connections are opened after the fork
            "timeout": 120,
            "graceful_timeout": 5,
            "loglevel": "warning",
            "control_socket_disable": True,
        }
    ).run()
