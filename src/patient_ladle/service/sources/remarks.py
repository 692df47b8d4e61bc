"""What a person should know of a source that something is saved on: it is saved all the same."""

from __future__ import annotations

from patient_ladle.adapters.sources import get_engine

from .models import Address, Environment, Source


def remarks_on(source: Source | None, environment: Environment | None = None) -> list[str]:
    """Of its address in an environment, or of all: the last check failed, there was none, or no password is kept."""
    if source is None:
        return []
    addresses = list(source.addresses.all())  # as they were brought along, where they were
    if not addresses:
        return [f"source '{source.name}' has no address yet: ladle source edit {source.name} --env NAME --address …"]
    chosen = [each for each in addresses if environment is None or each.environment_id == environment.pk]
    return [words for each in chosen for words in _of_address(source, each, environment or each.environment)]


def _of_address(source: Source, address: Address, environment: Environment) -> list[str]:
    where, found = f"source '{source.name}' in {environment.name}", list[str]()
    if get_engine(source.engine).takes_secret and not address.secret:
        found.append(f"{where} is given no password: ladle source edit {source.name} --secret-stdin")
    failed = next((step for step in address.last_check or [] if not step["passed"]), None)
    if failed is not None and address.last_check_at:
        when = f"{address.last_check_at:%Y-%m-%d %H:%M} UTC"
        found.append(f"{where} did not pass its last check, at {when}: {failed['step']}: {failed['detail']}")
    elif address.last_check_at is None:
        found.append(f"{where} has not been checked: ladle source check {source.name}")
    return found
