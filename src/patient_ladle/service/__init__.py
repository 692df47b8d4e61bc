"""The service: Django and its processes. One app a noun; in each app api > services (writes) > queries > models."""
